package functions_test

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"

	"osprey/core/store"
	"osprey/stores/functions"
)

// FuzzAnswers gives every answer that a service could: each call then has a
// value or an error, and no more than that.
func FuzzAnswers(f *testing.F) {
	for _, text := range []string{
		`[{"jsonrpc": "2.0", "id": 1, "result": {"amount": "12.50", "days": 3}}, {"id": 2, "error": {"code": -32602, "message": "no"}}]`,
		`[{"id": 2, "result": null}, {"id": 1, "result": {"amount": [], "days": "x"}}]`, `[{"id": 1, "result": 5}, {"id": 1}, {"id": null}, {"id": 99, "result": {}}]`,
		`{"id": null, "error": {"code": -32700, "message": "Parse error"}}`, `[]`, `null`, ``, `"x"`, `[1]`, `[{"id": "1", "result": 1}]`, `[{"id": 1, "result": {"amount": 1e999, "days": 1.5}}]`,
		`[{"id": 1, "error": {"code": -32601, "message": "\ud800"}}, {"id": 2, "error": {}}]`, `[{"id": 1.0, "result": {"days": 99999999999999999999}}]`,
	} {
		f.Add(text)
	}
	body := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write([]byte(body)) }))
	defer server.Close()
	s, err := functions.Open(functions.Config{URL: server.URL, MaxBytes: 1 << 16})
	if err != nil {
		f.Fatal(err)
	}
	read := &store.Read{Set: "quote", Parent: -1, Calls: true, Columns: []store.Wanted{{Kind: store.Record, Fields: []store.Wanted{{Path: "amount", Kind: store.Decimal}, {Path: "days", Kind: store.Int}}}}}
	request, err := s.Prepare(nil, []*store.Read{read})
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, text string) {
		body = text
		a, err := request.Run(context.Background(), nil, []store.Input{{Calls: [][]byte{[]byte(`{"args":{}}`), []byte(`{"args":{"n":1}}`)}}})
		var known *store.Error
		if err != nil {
			if !errors.As(err, &known) {
				t.Errorf("%q: %v is no error of a store", text, err)
			}
			return
		}
		table := a.Tables[0]
		if table.Len != 2 || table.Columns[0].Len() != 2 {
			t.Fatalf("%q gives %d rows", text, table.Len)
		}
		for row := range table.Len {
			if failed := table.Failed[row]; failed != nil && (!errors.As(failed, &known) || !table.Columns[0].Null[row]) {
				t.Errorf("%q: call %d has a value, and the error %v", text, row, failed)
			}
		}
		for row := range table.Columns[0].Rows.Len {
			if amount := &table.Columns[0].Rows.Columns[0]; !amount.Null[row] && !json.Valid(amount.At(row)) {
				t.Errorf("%q: the amount is %q", text, amount.At(row))
			}
		}
	})
}

// TestLarge holds that an answer beyond the limit is told as such.
func TestLarge(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { w.Write(make([]byte, 5000)) }))
	defer server.Close()
	s, err := functions.Open(functions.Config{URL: server.URL, MaxBytes: 4000})
	if err != nil {
		t.Fatal(err)
	}
	request, _ := s.Prepare(nil, []*store.Read{{Set: "x", Parent: -1, Calls: true, Columns: []store.Wanted{{Kind: store.Int}}}})
	_, err = request.Run(context.Background(), nil, []store.Input{{Calls: [][]byte{[]byte(`{}`)}}})
	var known *store.Error
	if !errors.As(err, &known) || known.Msg != "answered more than 4000B, which is the limit; ask for less, or raise maxAnswer in osprey.yaml" {
		t.Errorf("the error is %v", err)
	}
	if _, err := functions.Open(functions.Config{URL: "ftp://x"}); err == nil {
		t.Error("an address of another protocol is taken")
	}
}
