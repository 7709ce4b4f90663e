package project

// This file is the life of a revision. It is made of a content, becomes the current one, is
// replaced by the next, and is done when the last request that began on it has ended. A source is
// closed when neither the content nor a revision has it any more: one that stays keeps its
// connections through all revisions.
//
//	               made      current      replaced        done
//	revision 1     ├─────────┼────────────┼───────────────┤      its requests end on it
//	revision 2                     ├──────┼────────────────────
//	source a       ├──────────────────────────────────────┤      revision 2 has it no more
//	source b       ├───────────────────────────────────────────  both have it

// Revision returns the current revision. To make store requests, take [Project.Hold].
func (p *Project) Revision() *Revision { return p.current.Load() }

// Hold returns the current revision, whose sources stay open until release is called.
func (p *Project) Hold() (r *Revision, release func()) {
	for {
		r := p.current.Load()
		if r.hold() || p.closed.Load() {
			return r, r.release
		}
	}
}

// serve makes a revision the current one.
func (p *Project) serve(r *Revision) {
	if before := p.current.Swap(r); before != nil {
		before.release()
	}
	p.news.tell()
}

// hold keeps a revision from being done; false if it is done already.
func (r *Revision) hold() bool {
	for {
		n := r.holds.Load()
		if n == 0 {
			return false
		}
		if r.holds.CompareAndSwap(n, n+1) {
			return true
		}
	}
}

// release ends what hold began. The last one gives the revision's sources up.
func (r *Revision) release() {
	for {
		n := r.holds.Load()
		if n == 0 {
			return // the project was closed
		}
		if r.holds.CompareAndSwap(n, n-1) {
			if n == 1 {
				r.project.giveUp(r.content)
			}
			return
		}
	}
}

// take says that one more has the sources of a content.
func (c *content) take() {
	for _, s := range c.Sources {
		s.users.Add(1)
	}
}

// giveUp says that one less has the sources of a content, and closes those that nobody has.
func (p *Project) giveUp(c *content) {
	for _, s := range c.Sources {
		if s.users.Add(-1) > 0 {
			continue
		}
		if err := s.Store.Close(); err != nil {
			p.log.Warn("a source did not close", "source", s.Name, "error", err)
		}
	}
}

// Close ends the project: its sources are closed when the requests under way have ended.
func (p *Project) Close() {
	if p.closed.Swap(true) {
		return
	}
	p.hub.endOthers(nil)
	p.news.tell()
	if r := p.current.Load(); r != nil {
		r.release()
	}
	p.giveUp(p.content)
}
