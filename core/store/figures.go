package store

// A Counted source tells how many connections and answers it holds.
type Counted interface {
	Figures() Figures
}

// Figures are what a source holds in this process.
type Figures struct {
	Connections *Connections `json:"connections,omitempty"` // nil of a source without a pool of them
	Kept        *Kept        `json:"kept,omitempty"`        // nil of a source that keeps no answers
}

// Connections are those of a pool.
type Connections struct {
	Most int `json:"most"` // that there can be
	Open int `json:"open"`
	Busy int `json:"busy"` // of the open ones
}

// Kept is answers that are kept for as long as the store allows, so that it need not be asked again.
type Kept struct {
	Answers int   `json:"answers"`
	Bytes   int64 `json:"bytes"`
	Asked   int64 `json:"asked"` // how often an answer was wanted that may be kept, since the start
	Given   int64 `json:"given"` // how often the kept one was given, also since the store said that it is the same still
}
