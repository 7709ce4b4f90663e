package service

import (
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// TestPanicInTheMiddle holds that an answer whose beginning was sent when the
// service failed breaks off, and that one of which nothing was sent says so.
func TestPanicInTheMiddle(t *testing.T) {
	s := &Service{Config: Config{Log: slog.New(slog.DiscardHandler), Patience: time.Minute}}
	for _, test := range []struct {
		name string
		sent int
	}{{"before", 0}, {"early", 10}, {"late", 100_000}} {
		h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", mediaJSON)
			if test.sent > 0 {
				io.WriteString(w, strings.Repeat("[", test.sent))
			}
			panic("a made-up fault")
		})
		for _, encoding := range []string{"gzip", "identity"} {
			server := httptest.NewServer(s.patient(s.recoverer(compressed(h))))
			req, _ := http.NewRequest(http.MethodGet, server.URL, nil)
			req.Header.Set("Accept-Encoding", encoding)
			var body []byte
			res, err := http.DefaultTransport.RoundTrip(req)
			if err == nil {
				body, err = io.ReadAll(res.Body)
				res.Body.Close()
			}
			server.Close()
			switch {
			case test.sent == 0 && (err != nil || res.StatusCode != http.StatusInternalServerError):
				t.Errorf("%s, %s: answers %v %v", test.name, encoding, res, err)
			case test.sent > 0 && err == nil:
				t.Errorf("%s, %s: the answer ends as if it were whole: %.200s", test.name, encoding, body)
			case strings.Contains(string(body), "the service failed") && test.sent > 0:
				t.Errorf("%s, %s: a second answer follows: %.200s", test.name, encoding, body)
			}
		}
	}
}
