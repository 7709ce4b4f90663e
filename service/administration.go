package service

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"osprey/project"
	"osprey/publishing"
	"osprey/records"
)

// This file takes the calls of those who run the service: openapi.yaml describes them.

// administration adds the calls.
func (s *Service) administration(r chi.Router) {
	r.Get("/api/v1/openapi.json", s.description)
	r.Get("/api/v1/events", s.events)
	r.Group(func(r chi.Router) {
		r.Use(s.administers)
		r.Post("/api/v1/refresh", s.refresh)
		r.Group(func(r chi.Router) {
			r.Use(s.kept)
			r.Get("/api/v1/instances", s.instances)
			r.Get("/api/v1/revisions", s.revisions)
			r.Post("/api/v1/revisions", s.publish)
			r.Get("/api/v1/revisions/{number}", s.revision)
			r.Post("/api/v1/revisions/{number}/restore", s.restore)
			r.Get("/api/v1/traffic", s.traffic)
			r.Get("/api/v1/traffic/uses", s.uses)
			r.Get("/api/v1/saved", s.saved)
			r.Put("/api/v1/saved/{name}", s.save)
			r.Delete("/api/v1/saved/{name}", s.unsave)
		})
	})
}

// administers lets those through who may do what people do who run the service.
func (s *Service) administers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !isAmong(r, s.Project.Revision().Config.Administration) {
			problem(w, http.StatusForbidden, "this is for those who run the service", "ask from the machine that it runs on, or set administration in osprey.yaml")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// kept answers for a service that keeps no records.
func (s *Service) kept(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.Keeper == nil {
			problem(w, http.StatusNotFound, "this service keeps no records", "name a PostgreSQL database with records in osprey.yaml, and start it again")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// troubled answers with an error of the records.
func troubled(w http.ResponseWriter, err error) {
	switch {
	case errors.Is(err, records.ErrNone):
		problem(w, http.StatusNotFound, err.Error(), "osprey revisions lists them")
	case errors.Is(err, records.ErrAway):
		w.Header().Set("Retry-After", "5")
		problem(w, http.StatusServiceUnavailable, err.Error(), "look at the database that records names in osprey.yaml")
	default:
		problem(w, http.StatusInternalServerError, err.Error(), "look at the database that records names in osprey.yaml")
	}
}

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

// withinOf reads the parameter within: how far back from now.
func withinOf(w http.ResponseWriter, r *http.Request) (time.Duration, bool) {
	text := r.URL.Query().Get("within")
	if text == "" {
		return 24 * time.Hour, true
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		problem(w, http.StatusBadRequest, "the parameter within is "+clipped(text), "give a length of time such as 24h")
		return 0, false
	}
	return d, true
}

// refresh has the stores asked what they hold, and the files read again.
func (s *Service) refresh(w http.ResponseWriter, r *http.Request) {
	findings, err := s.Project.Refresh(r.Context())
	if err != nil && findings == nil {
		findings = s.Project.Trouble()
	}
	if err != nil {
		problemWith(w, http.StatusUnprocessableEntity, details{Detail: "the project has errors, and what was served before is served still", Findings: findings.JSON(s.Project.Dir)})
		return
	}
	answer(w, map[string]any{"findings": findings.JSON(s.Project.Dir)})
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
	case strings.TrimSpace(in.By) == "" || len(in.By) > longestBy || len(in.Note) > longestNote:
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
	pub := &publishing.Publication{Files: in.Files, By: in.By, Note: in.Note, Onto: records.Any, Anyway: in.Anyway, Try: in.Try}
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

// A tally is an operation as traffic tells it.
type tally struct {
	*records.Operation
	// How long answers took, in milliseconds: half of them less than p50, and so on.
	P50 float64 `json:"p50"`
	P95 float64 `json:"p95"`
	P99 float64 `json:"p99"`
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// traffic tells what is asked.
func (s *Service) traffic(w http.ResponseWriter, r *http.Request) {
	within, ok := withinOf(w, r)
	if !ok {
		return
	}
	list, err := s.Keeper.Records.Traffic(r.Context(), within, r.URL.Query().Get("client"))
	if err != nil {
		troubled(w, err)
		return
	}
	hours, err := s.Keeper.Records.Hours(r.Context(), within)
	if err != nil {
		troubled(w, err)
		return
	}
	operations := []tally{}
	for _, o := range list {
		if r.URL.Query().Get("uses") != "true" {
			o.Uses = nil
		}
		operations = append(operations, tally{o, millis(o.Times.Quantile(0.5)), millis(o.Times.Quantile(0.95)), millis(o.Times.Quantile(0.99))})
	}
	answer(w, map[string]any{"within": within.String(), "operations": operations, "hours": hours, "state": s.Keeper.State()})
}

// uses tells what of the schema is asked, and what is not.
func (s *Service) uses(w http.ResponseWriter, r *http.Request) {
	within, ok := withinOf(w, r)
	if !ok {
		return
	}
	used, err := s.Keeper.Records.Uses(r.Context(), within)
	if err != nil {
		troubled(w, err)
		return
	}
	since, err := s.Keeper.Records.Since(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	coordinates := make([]string, len(used))
	for i, u := range used {
		coordinates[i] = u.Coordinate
	}
	out := map[string]any{"within": within.String(), "uses": used, "unused": s.Project.Revision().Unused(coordinates)}
	if !since.IsZero() {
		out["since"] = since
	}
	answer(w, out)
}

// saved lists the operations that people saved.
func (s *Service) saved(w http.ResponseWriter, r *http.Request) {
	list, err := s.Keeper.Records.Saved(r.Context())
	if err != nil {
		troubled(w, err)
		return
	}
	answer(w, map[string]any{"saved": list})
}

// savedName returns the name in the path, which may have any letters.
func savedName(r *http.Request) string {
	name := chi.URLParam(r, "name")
	if r.URL.RawPath != "" { // what the router has seen
		if plain, err := url.PathUnescape(name); err == nil {
			return plain
		}
	}
	return name
}

// save keeps an operation.
func (s *Service) save(w http.ResponseWriter, r *http.Request) {
	in := records.Saved{}
	bad := s.readJSON(r, func(body []byte) *refusal {
		if err := json.Unmarshal(body, &in); err != nil {
			return badRequest(`send {"text": "{ … }", "by": "…", "version": 0}`, "the body is not an operation in JSON")
		}
		return nil
	})
	in.Name = savedName(r)
	if bad == nil && (len(in.Name) > longestBy || len(in.By) > longestBy || strings.TrimSpace(in.Text) == "" || strings.ContainsRune(in.Name+in.By+in.Text, 0)) {
		bad = badRequest(`send {"text": "{ … }", "by": "…", "version": 0}`, "the operation has no text, or a name that is too long")
	}
	if bad != nil {
		problem(w, bad.status, bad.msg, bad.fix)
		return
	}
	err := s.Keeper.Records.Save(r.Context(), &in)
	switch {
	case errors.Is(err, records.ErrChanged):
		problem(w, http.StatusConflict, "the operation "+clipped(in.Name)+" is there already, or somebody has changed it in the meantime", "read it again, and save it with its version")
	case errors.Is(err, records.ErrFull):
		problem(w, http.StatusConflict, err.Error(), "")
	case err != nil:
		troubled(w, err)
	default:
		answer(w, in)
	}
}

// unsave removes an operation.
func (s *Service) unsave(w http.ResponseWriter, r *http.Request) {
	was, err := s.Keeper.Records.Unsave(r.Context(), savedName(r))
	switch {
	case err != nil:
		troubled(w, err)
	case !was:
		problem(w, http.StatusNotFound, "no operation "+clipped(savedName(r))+" is saved", "ask for /api/v1/saved, which lists them")
	default:
		w.WriteHeader(http.StatusNoContent)
	}
}
