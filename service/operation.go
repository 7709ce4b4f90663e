package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"osprey/core/language"
	"osprey/core/store"
	"osprey/project"
)

// This file reads operations from HTTP requests. JSON is read token by token, with a
// reader that refuses what RFC 8259 leaves to chance: a key twice in one object
// (section 4) and text that is not UTF-8 (section 8.1).

// A refusal is why an HTTP request holds no operation that could be read.
type refusal struct {
	status   int
	msg, fix string
}

func badRequest(fix, format string, args ...any) *refusal {
	return &refusal{http.StatusBadRequest, fmt.Sprintf(format, args...), fix}
}

// decodeQuery reads the operation of the parameters of a GET request.
func decodeQuery(r *http.Request) (*project.Request, *refusal) {
	values := r.URL.Query()
	q := &project.Request{Query: values.Get("query"), OperationName: values.Get("operationName"), SHA256: values.Get("sha256")}
	if q.Query == "" && q.OperationName == "" && q.SHA256 == "" {
		return nil, badRequest("send ?query={…}, encoded, or ?operationName=… of a saved operation", "the parameter \"query\" is missing")
	}
	var bad *refusal
	if q.Variables, bad = objectParameter(values, "variables"); bad != nil {
		return nil, bad
	}
	_, bad = objectParameter(values, "extensions")
	return q, bad
}

// objectParameter reads a parameter that is a JSON object, or null, or not there.
func objectParameter(values url.Values, name string) (map[string]any, *refusal) {
	text := values.Get(name)
	if text == "" {
		return nil, nil
	}
	value, err := newReader([]byte(text)).whole()
	if err != nil {
		return nil, badRequest("", "the parameter %q is not a JSON object: %s", name, jsonFault(err, []byte(text)))
	}
	object, ok := value.(map[string]any)
	if !ok && value != nil {
		return nil, badRequest("", "the parameter %q is not a JSON object", name)
	}
	return object, nil
}

// fill fills in the text of a saved operation that is asked for by its name.
func fill(ctx context.Context, q *project.Request, r *project.Revision) *refusal {
	switch {
	case q.Query != "" && q.SHA256 != "" && !strings.EqualFold(q.SHA256, project.HashOf(q.Query)):
		return badRequest("leave one of them out", "the text is not that which has this SHA-256")
	case q.Query != "":
		return nil
	}
	text, err := r.SavedFor(ctx, q.OperationName, strings.ToLower(q.SHA256), q.Who())
	if err != nil {
		return badRequest(`send its text as "query", or save it in operations/`, "%v", err)
	}
	q.Query = text
	return nil
}

// decodeBody reads the operation of the body of a POST request.
func (s *Service) decodeBody(r *http.Request) (q *project.Request, bad *refusal) {
	bad = s.readJSON(r, func(body []byte) *refusal {
		q, bad = decodeRequest(body)
		return bad
	})
	return q, bad
}

// decodeRequest reads the JSON of a request. The request keeps nothing of
// the body.
func decodeRequest(body []byte) (*project.Request, *refusal) {
	if len(bytes.TrimSpace(body)) == 0 {
		return nil, badRequest(`send {"query": "{ … }"}`, "the body is empty")
	}
	q, bad, err := newReader(body).request()
	if err != nil {
		var syntax *jsontext.SyntacticError
		if errors.Is(err, jsontext.ErrDuplicateName) && errors.As(err, &syntax) {
			return nil, badRequest("leave one of them out", "the body has the key %q twice in one object", syntax.JSONPointer.LastToken())
		}
		return nil, badRequest(`send {"query": "…", "variables": {…}}`, "the body is not a request in JSON: %s", jsonFault(err, body))
	}
	if bad == nil && q.Query == "" && q.OperationName == "" && q.SHA256 == "" {
		bad = badRequest(`send {"query": "{ … }"}, or the "operationName" of a saved operation`, "the body has no \"query\"")
	}
	return q, bad
}

// A reader reads one JSON text.
type reader struct{ *jsontext.Decoder }

func newReader(text []byte) reader { return reader{jsontext.NewDecoder(bytes.NewBuffer(text))} }

// request reads a request. What is wrong with its members is told after the
// whole text was read: a text that is not JSON is the greater fault.
func (r reader) request() (q *project.Request, bad *refusal, err error) {
	q = &project.Request{}
	if kind := r.PeekKind(); kind != '{' {
		if _, err := r.whole(); err != nil {
			return nil, nil, err
		}
		return nil, badRequest(`send {"query": "…", "variables": {…}}`, "the body is not a request in JSON: it is %s, and not an object", kindName(kind)), nil
	}
	if _, err := r.ReadToken(); err != nil {
		return nil, nil, err
	}
	for r.PeekKind() != '}' {
		name, err := r.ReadToken()
		if err != nil {
			return nil, nil, err
		}
		member, kind := name.String(), r.PeekKind()
		value, err := store.ReadJSON(r.Decoder)
		if err != nil {
			return nil, nil, err
		}
		wanted := "a string"
		ok := value == nil
		switch member {
		case "query":
			if text, is := value.(string); is {
				q.Query, ok = text, true
			}
		case "operationName":
			if text, is := value.(string); is {
				q.OperationName, ok = text, true
			}
		case "sha256":
			if text, is := value.(string); is {
				q.SHA256, ok = text, true
			}
		case "variables", "extensions":
			object, is := value.(map[string]any)
			if ok, wanted = ok || is, "an object"; is && member == "variables" {
				q.Variables = object
			}
		default:
			ok = true
		}
		if !ok && bad == nil {
			bad = badRequest("", "%q is not %s: it is %s", member, wanted, kindName(kind))
		}
	}
	return q, bad, r.end()
}

// whole reads the only value of a text.
func (r reader) whole() (any, error) {
	v, err := store.ReadJSON(r.Decoder)
	if err != nil {
		return nil, err
	}
	_, err = r.ReadToken()
	if errors.Is(err, io.EOF) {
		return v, nil
	}
	return v, errMore
}

// errMore says that something follows a text's only value.
var errMore = errors.New("more follows its end")

// end reads the end of the text's only object.
func (r reader) end() error {
	if _, err := r.ReadToken(); err != nil {
		return err
	}
	if _, err := r.ReadToken(); !errors.Is(err, io.EOF) {
		return errMore
	}
	return nil
}

func kindName(kind jsontext.Kind) string {
	switch kind {
	case '[':
		return "an array"
	case '{':
		return "an object"
	case '"':
		return "a string"
	case '0':
		return "a number"
	case 'n':
		return "null"
	}
	return "a boolean"
}

// jsonFault says what is wrong with a JSON text, and where.
func jsonFault(err error, text []byte) string {
	var syntax *jsontext.SyntacticError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		return "it ends early"
	case errors.As(err, &syntax) && syntax.Err != nil:
		at := language.NewSource("", strings.ToValidUTF8(string(text), "\uFFFD"))
		return fmt.Sprintf("%v, at %s", syntax.Err, at.Position(at.Pos(int(syntax.ByteOffset))))
	}
	return err.Error()
}
