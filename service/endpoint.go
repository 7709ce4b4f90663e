package service

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"unicode/utf8"

	"osprey/core/language"
	"osprey/project"
	"osprey/stores/rest"
)

// The media types of answers (GraphQL over HTTP, Media Types).
const (
	mediaResponse = "application/graphql-response+json"
	mediaJSON     = "application/json"
)

// callsHeader asks for the store requests with "on".
const callsHeader = "Osprey-Calls"

// A refusal is why a request is not even read as a question.
type refusal struct {
	status   int
	msg, fix string
}

// endpoint answers operations: GraphQL over HTTP, with both media types. A
// request that is not one of this protocol gets a 4xx. With the newer media
// type an operation that is refused gets 400; with application/json every
// well-formed request gets 200, which is what old clients expect.
func (s *server) endpoint(w http.ResponseWriter, r *http.Request) {
	media := negotiate(r.Header.Values("Accept"))
	if media == "" {
		problem(w, http.StatusNotAcceptable, "no media type of the Accept header can be answered", "accept "+mediaResponse+" or "+mediaJSON)
		return
	}
	var q *project.Question
	var bad *refusal
	if r.Method == http.MethodGet {
		q, bad = decodeQuery(r)
	} else {
		q, bad = s.decodeBody(w, r)
	}
	if bad != nil {
		s.refuse(w, media, bad)
		return
	}
	revision := s.Project.Revision()
	if r.Method == http.MethodGet && revision.Changes(q) {
		w.Header().Set("Allow", "POST")
		s.refuse(w, media, &refusal{http.StatusMethodNotAllowed, "a mutation cannot be sent with GET", "send it with POST"})
		return
	}
	answer := revision.Ask(rest.WithHeaders(r.Context(), r.Header), q)
	status := http.StatusOK
	if answer.Refused && media == mediaResponse {
		status = http.StatusBadRequest
	}
	w.Header().Add("Vary", "Accept")
	write(w, status, media+"; charset=utf-8", answer.AppendJSON(nil, strings.EqualFold(r.Header.Get(callsHeader), "on")))
}

// refuse answers in the form of a response with a request error.
func (s *server) refuse(w http.ResponseWriter, media string, bad *refusal) {
	a := project.Answer{Refused: true, Faults: []project.Fault{{Message: bad.msg, Fix: bad.fix, Code: "REQUEST"}}}
	write(w, bad.status, media+"; charset=utf-8", a.AppendJSON(nil, false))
}

// negotiate chooses the media type of the answer, or "" if none will do. No
// Accept header means an old client.
func negotiate(accept []string) string {
	if len(accept) == 0 {
		return mediaJSON
	}
	best, bestQ, bestAt := "", 0.0, 0
	at := 0
	for _, part := range strings.Split(strings.Join(accept, ","), ",") {
		at++
		media, params, err := mime.ParseMediaType(strings.TrimSpace(part))
		if err != nil {
			continue
		}
		q := 1.0
		if text, ok := params["q"]; ok {
			if q, err = strconv.ParseFloat(text, 64); err != nil {
				continue
			}
		}
		if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
			continue
		}
		switch media {
		case "*/*", "application/*":
			media = mediaJSON
		case mediaResponse, mediaJSON:
		default:
			continue
		}
		if q > bestQ || q == bestQ && q > 0 && at < bestAt {
			best, bestQ, bestAt = media, q, at
		}
	}
	return best
}

// decodeQuery reads a question from the parameters of a GET request.
func decodeQuery(r *http.Request) (*project.Question, *refusal) {
	values := r.URL.Query()
	q := &project.Question{Query: values.Get("query"), OperationName: values.Get("operationName")}
	if q.Query == "" {
		return nil, &refusal{http.StatusBadRequest, "the parameter \"query\" is missing", "send ?query={…}, encoded"}
	}
	if text := values.Get("variables"); text != "" {
		d := json.NewDecoder(strings.NewReader(text))
		d.UseNumber()
		if err := d.Decode(&q.Variables); err != nil {
			return nil, &refusal{http.StatusBadRequest, "the parameter \"variables\" is not a JSON object: " + jsonFault(err, []byte(text)), ""}
		}
	}
	return q, nil
}

// decodeBody reads a question from the body of a POST request.
func (s *server) decodeBody(w http.ResponseWriter, r *http.Request) (*project.Question, *refusal) {
	media, params, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || media != mediaJSON {
		return nil, &refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("the body's Content-Type is %q", r.Header.Get("Content-Type")), "send " + mediaJSON}
	}
	if charset := params["charset"]; charset != "" && !strings.EqualFold(charset, "utf-8") {
		return nil, &refusal{http.StatusUnsupportedMediaType, fmt.Sprintf("the body's charset is %q", charset), "send UTF-8"}
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, s.MaxBody))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return nil, &refusal{http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than %d bytes, which is the limit", s.MaxBody), "raise limits.body in osprey.yaml, or send less"}
	case err != nil:
		return nil, &refusal{http.StatusBadRequest, "the body broke off", ""}
	case !utf8.Valid(body):
		return nil, &refusal{http.StatusBadRequest, "the body is not valid UTF-8", ""}
	}
	return decodeQuestion(body)
}

// decodeQuestion reads the JSON of a request.
func decodeQuestion(body []byte) (*project.Question, *refusal) {
	var raw struct {
		Query         *string         `json:"query"`
		OperationName *string         `json:"operationName"`
		Variables     json.RawMessage `json:"variables"`
		Extensions    json.RawMessage `json:"extensions"`
	}
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, &refusal{http.StatusBadRequest, "the body is empty", `send {"query": "{ … }"}`}
	}
	if err := json.Unmarshal(body, &raw); err != nil {
		return nil, &refusal{http.StatusBadRequest, "the body is not a request in JSON: " + jsonFault(err, body), `send {"query": "…", "variables": {…}}`}
	}
	if name := duplicateKey(body); name != "" {
		return nil, &refusal{http.StatusBadRequest, fmt.Sprintf("the body has the key %q twice in one object", name), "leave one of them out"}
	}
	if raw.Query == nil || *raw.Query == "" {
		return nil, &refusal{http.StatusBadRequest, "the body has no \"query\"", `send {"query": "{ … }"}`}
	}
	q := &project.Question{Query: *raw.Query}
	if raw.OperationName != nil {
		q.OperationName = *raw.OperationName
	}
	for name, part := range map[string]json.RawMessage{"variables": raw.Variables, "extensions": raw.Extensions} {
		if len(part) == 0 || string(part) == "null" {
			continue
		}
		var object map[string]any
		d := json.NewDecoder(bytes.NewReader(part))
		d.UseNumber()
		if err := d.Decode(&object); err != nil {
			return nil, &refusal{http.StatusBadRequest, fmt.Sprintf("%q is not an object", name), ""}
		}
		if name == "variables" {
			q.Variables = object
		}
	}
	return q, nil
}

// duplicateKey returns a key that an object of a sound JSON text has twice, or
// "". Readers of JSON differ in which of the two they take (RFC 8259, section
// 4), so neither is.
func duplicateKey(body []byte) string {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	type level struct {
		keys map[string]bool // nil for a list
		key  bool            // the next token is a key
	}
	var open []level
	for {
		t, err := d.Token()
		if err != nil {
			return ""
		}
		top := len(open) - 1
		if name, ok := t.(string); ok && top >= 0 && open[top].key {
			if open[top].keys[name] {
				return name
			}
			open[top].keys[name] = true
			open[top].key = false
			continue
		}
		switch t {
		case json.Delim('{'):
			open = append(open, level{map[string]bool{}, true})
			continue
		case json.Delim('['):
			open = append(open, level{})
			continue
		case json.Delim('}'), json.Delim(']'):
			open = open[:top]
			top--
		}
		if top >= 0 && open[top].keys != nil {
			open[top].key = true
		}
	}
}

// jsonFault says what is wrong with a JSON text, and where.
func jsonFault(err error, text []byte) string {
	var syntax *json.SyntaxError
	var mismatch *json.UnmarshalTypeError
	switch {
	case errors.As(err, &syntax):
		at := language.NewSource("", string(text))
		return fmt.Sprintf("%v, at %s", syntax, at.Position(at.Pos(int(max(syntax.Offset-1, 0)))))
	case errors.As(err, &mismatch) && mismatch.Field != "":
		return fmt.Sprintf("%q is %s", mismatch.Field, mismatch.Value)
	case errors.As(err, &mismatch):
		return "it is " + mismatch.Value + ", and not an object"
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "it ends early"
	}
	return "it cannot be read"
}
