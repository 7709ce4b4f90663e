package service_test

import (
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"osprey/access"
	"osprey/service"
)

// TestAudit has the log say who did what people do who run the service, and who tried to.
func TestAudit(t *testing.T) {
	admin, screen := access.Make(), access.Make()
	k := keep(t, fmt.Sprintf("access:\n  admin: [admin]\n  keys:\n    %s: { name: office, hash: %q, roles: [admin] }\n    %s: { name: board, hash: %q, roles: [screen] }\n", admin.ID, admin.Hash, screen.ID, screen.Hash))
	said := &syncBuffer{}
	s := service.New(service.Config{Project: k.service.Project, Keeper: k.service.Keeper, Log: slog.New(slog.NewTextHandler(said, nil))})
	server := httptest.NewServer(s)
	defer server.Close()
	defer s.End()
	for _, test := range []struct {
		key, method, path, body string
		want                    string // the line, without what is of the connection; "" for none
	}{
		{admin.String(), http.MethodPost, "/api/v1/keys", `{"name": "new"}`, `administration method=POST path=/api/v1/keys status=200 caller=key:` + admin.ID + ` name=office`},
		{screen.String(), http.MethodPost, "/api/v1/keys", `{"name": "new"}`, `administration method=POST path=/api/v1/keys status=403 caller=key:` + screen.ID + ` name=board`},
		{screen.String(), http.MethodGet, "/api/v1/revisions", "", `administration method=GET path=/api/v1/revisions status=403 caller=key:` + screen.ID + ` name=board`},
		{admin.String(), http.MethodGet, "/api/v1/revisions", "", ""},
		{admin.String(), http.MethodDelete, "/api/v1/keys/none", "", `administration method=DELETE path=/api/v1/keys/none status=404 caller=key:` + admin.ID + ` name=office`},
	} {
		before := len(said.String())
		req, _ := http.NewRequest(test.method, server.URL+test.path, strings.NewReader(test.body))
		req.Header.Set("Authorization", "Bearer "+test.key)
		req.Header.Set("Content-Type", "application/json")
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if got := said.String()[before:]; test.want == "" && strings.Contains(got, "administration") || !strings.Contains(got, test.want) || strings.Contains(got, admin.Secret) {
			t.Errorf("%s %s is logged as %q, and not %q", test.method, test.path, got, test.want)
		}
	}
}
