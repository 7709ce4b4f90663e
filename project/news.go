package project

import (
	"sync"
	"time"
)

// A Label says which of the revisions that are kept a revision is.
type Label struct {
	ID     string    `json:"id"`
	Number int64     `json:"number"`
	At     time.Time `json:"at"`
	By     string    `json:"by"`
	Note   string    `json:"note,omitempty"`
	// Origin is how it came: one of [FromFiles], [Published] and [Restored].
	Origin string `json:"origin"`
}

// How a revision came to be.
const (
	FromFiles = "files"     // from the folder of a service
	Published = "published" // sent to a running service
	Restored  = "restored"  // one from before was made the current one again
)

// Label says which of the revisions that are kept this is; nil if it is none, or not known yet.
func (r *Revision) Label() *Label { return r.label.Load() }

// SetLabel says which of the revisions that are kept this is.
func (r *Revision) SetLabel(l *Label) {
	r.label.Store(l)
	r.project.news.tell()
}

// news tells those who wait that something has changed.
type news struct {
	mu   sync.Mutex // guards what follows
	next chan struct{}
}

func (n *news) tell() {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.next != nil {
		close(n.next)
		n.next = nil
	}
}

// wait returns a channel that is closed when something changes the next time.
func (n *news) wait() <-chan struct{} {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.next == nil {
		n.next = make(chan struct{})
	}
	return n.next
}

// TellNews tells those who wait for News that something has changed, beside the project.
func (p *Project) TellNews() { p.news.tell() }

// News returns a channel that is closed when another revision is served, or when what
// [Project.Trouble] tells has changed, the next time after the call.
func (p *Project) News() <-chan struct{} { return p.news.wait() }
