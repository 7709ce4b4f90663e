package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"osprey/project"
	"osprey/publishing"
	"osprey/records"
)

// This file tells of revisions, and takes those that are published.

// numberOf reads the number of a revision from the path; false if it was answered that it is none.
func numberOf(w http.ResponseWriter, r *http.Request) (int64, bool) {
	n, err := strconv.ParseInt(chi.URLParam(r, "number"), 10, 64)
	if err != nil || n < 1 {
		problem(w, http.StatusNotFound, clipped(chi.URLParam(r, "number"))+" is no number of a revision", "osprey revisions lists them")
		return 0, false
	}
	return n, true
}

// parameter reads a parameter that is a whole number from least; preset if it is not given.
func parameter(w http.ResponseWriter, r *http.Request, name string, preset, least, most int64) (int64, bool) {
	text := r.URL.Query().Get(name)
	if text == "" {
		return preset, true
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < least || n > most {
		problem(w, http.StatusBadRequest, "the parameter "+name+" is "+clipped(text), "give a whole number from "+strconv.FormatInt(least, 10)+" to "+strconv.FormatInt(most, 10))
		return 0, false
	}
	return n, true
}

func (s *Service) instances(w http.ResponseWriter, r *http.Request) {
	list, err := s.Keeper.Records.Instances(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, map[string]any{"instances": list})
}

// revisions lists revisions, and which one is served here.
func (s *Service) revisions(w http.ResponseWriter, r *http.Request) {
	before, ok := parameter(w, r, "before", 0, 1, 1<<53)
	if !ok {
		return
	}
	limit, ok := parameter(w, r, "limit", 20, 1, 1000)
	if !ok {
		return
	}
	list, err := s.Keeper.Records.Revisions(r.Context(), before, int(limit))
	if err != nil {
		troubled(w, err)
		return
	}
	_, last, err := s.Keeper.Records.LastID(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, map[string]any{"revisions": list, "serving": s.Project.Revision().Label(), "published": last})
}

func (s *Service) revision(w http.ResponseWriter, r *http.Request) {
	n, ok := numberOf(w, r)
	if !ok {
		return
	}
	rev, err := s.Keeper.Records.Revision(r.Context(), n)
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, rev)
}

// A sent is a publication as it is sent.
type sent struct {
	Files  project.Files `json:"files"`
	By     string        `json:"by"`
	Note   string        `json:"note"`
	Onto   *int64        `json:"onto"`
	Anyway bool          `json:"anyway"`
	Try    bool          `json:"try"`
}

// The bounds of what is published.
const (
	mostPublished = 32 << 20 // bytes of the body
	longestNote   = 10_000
	longestBy     = 200
)

// readPublication reads a publication; false if it was answered what is wrong with it.
func (s *Service) readPublication(w http.ResponseWriter, r *http.Request, whole bool) (*publishing.Publication, bool) {
	var in sent
	bad := readJSON(r, mostPublished, "publish less at once", func(body []byte) *refusal {
		d := json.NewDecoder(strings.NewReader(string(body)))
		d.DisallowUnknownFields()
		if err := d.Decode(&in); err != nil {
			return badRequest(`send {"files": {"osprey.yaml": "…", "schema/….graphql": "…"}, "by": "…", "note": "…"}`, "the body is not a publication in JSON")
		}
		return nil
	})
	switch {
	case bad != nil:
	case whole && len(in.Files) == 0:
		bad = badRequest(`send {"files": {"osprey.yaml": "…", "schema/….graphql": "…"}}`, "the publication has no files")
	case !whole && len(in.Files) > 0:
		bad = badRequest("send it to /api/v1/revisions", "what is restored has no files of its own")
	case strings.ContainsRune(in.By+in.Note, 0) || strings.TrimSpace(in.By) == "" || len(in.By) > longestBy || len(in.Note) > longestNote:
		bad = badRequest(`say with "by" who publishes, and why with "note"`, "the publication has no name, or one or a note that is too long")
	}
	if bad == nil {
		for path := range in.Files {
			if !project.IsPart(path) {
				bad = badRequest("send osprey.yaml, the .graphql files in schema/ and operations/, and JSON Schemas", "%q is no file of a project", clipped(path))
			}
		}
	}
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return nil, false
	}
	pub := &publishing.Publication{Files: in.Files, By: byOf(r, in.By), Note: in.Note, Onto: records.Any, Anyway: in.Anyway, Try: in.Try}
	if in.Onto != nil {
		pub.Onto = *in.Onto
	}
	return pub, true
}

// publish takes a revision.
func (s *Service) publish(w http.ResponseWriter, r *http.Request) {
	pub, ok := s.readPublication(w, r, true)
	if !ok {
		return
	}
	outcome, err := s.Keeper.Publish(r.Context(), pub)
	s.tellOutcome(w, outcome, err)
}

// restore makes a revision the current one again.
func (s *Service) restore(w http.ResponseWriter, r *http.Request) {
	n, ok := numberOf(w, r)
	if !ok {
		return
	}
	pub, ok := s.readPublication(w, r, false)
	if !ok {
		return
	}
	outcome, err := s.Keeper.Restore(r.Context(), n, pub)
	s.tellOutcome(w, outcome, err)
}

// tellOutcome answers what came of a publication.
func (s *Service) tellOutcome(w http.ResponseWriter, outcome *publishing.Outcome, err error) {
	var findings project.Findings
	var overtaken *records.Overtaken
	switch {
	case errors.As(err, &findings):
		problemWith(w, http.StatusUnprocessableEntity, details{Detail: "the project has errors, and is not served", Findings: outcome.Findings.JSON(s.Project.Dir)})
	case errors.As(err, &overtaken):
		problemWith(w, http.StatusConflict, details{Detail: err.Error(), Fix: "look at what it changes, and publish again", Last: &overtaken.Last})
	case errors.Is(err, publishing.ErrBreaks):
		problemWith(w, http.StatusConflict, details{Detail: err.Error(), Fix: "keep what they use, or insist", Broken: outcome.Broken})
	case err != nil:
		troubled(w, err)
	default:
		answer(w, struct {
			*publishing.Outcome
			Findings []project.FindingJSON `json:"findings"`
		}{outcome, outcome.Findings.JSON(s.Project.Dir)})
	}
}
