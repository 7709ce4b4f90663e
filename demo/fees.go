package demo

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"sync"
)

// Fees is the stand-in for the harbour office's service of dues. It answers
// batches of JSON-RPC 2.0, and keeps the calls of each request it saw.
type Fees struct {
	mu   sync.Mutex
	seen []int
}

// Requests returns the number of calls in every request since the last time.
func (f *Fees) Requests() []int {
	f.mu.Lock()
	defer f.mu.Unlock()
	seen := f.seen
	f.seen = nil
	return seen
}

type feeCall struct {
	Version string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id"`
	Method  string          `json:"method"`
	Params  struct {
		Record struct {
			Craft struct{ LengthM float64 }
			Berth *struct{ Quay struct{ Code string } }
		}
		Args struct {
			Days    int
			LengthM float64
			Quay    string
		}
	} `json:"params"`
}

type feeAnswer struct {
	Version string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id"`
	Result  any             `json:"result,omitempty"`
	Error   *feeError       `json:"error,omitempty"`
}

type feeError struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
}

type money struct {
	Amount   string `json:"amount"`
	Currency string `json:"currency"`
}

// Handler serves the functions quote, of a port call, and tariff, of a length
// and a quay.
func (f *Fees) Handler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var calls []feeCall
		if err := json.NewDecoder(r.Body).Decode(&calls); err != nil {
			send(w, feeAnswer{Version: "2.0", ID: json.RawMessage("null"), Error: &feeError{-32700, "Parse error"}})
			return
		}
		f.mu.Lock()
		f.seen = append(f.seen, len(calls))
		f.mu.Unlock()
		answers := make([]feeAnswer, len(calls))
		for i, c := range calls {
			answers[i] = c.answer()
		}
		send(w, answers)
	})
}

func (c *feeCall) answer() feeAnswer {
	a := feeAnswer{Version: "2.0", ID: c.ID}
	p := &c.Params
	length, quay := p.Args.LengthM, p.Args.Quay
	switch c.Method {
	case "quote":
		length, quay = p.Record.Craft.LengthM, ""
		if p.Record.Berth != nil {
			quay = p.Record.Berth.Quay.Code
		}
	case "tariff":
	default:
		a.Error = &feeError{-32601, "Method not found"}
		return a
	}
	if p.Args.Days < 1 {
		a.Error = &feeError{-32602, fmt.Sprintf("days must be 1 or more, found %d", p.Args.Days)}
		return a
	}
	if length <= 0 || length > 1000 {
		a.Error = &feeError{-32602, fmt.Sprintf("no craft is %g m long", length)}
		return a
	}
	a.Result = Dues(length, quay, p.Args.Days)
	return a
}

// Dues returns what a craft of a length in metres pays for some days at a quay;
// at anchor, whose quay is "", a quarter.
func Dues(lengthM float64, quay string, days int) any {
	rate := 0.5
	if quay != "" {
		rate = 2 + float64(quay[len(quay)-1]%5)/4
	}
	cents := int(math.Round(lengthM * rate * 100 * float64(days)))
	return money{fmt.Sprintf("%d.%02d", cents/100, cents%100), "SKD"}
}
