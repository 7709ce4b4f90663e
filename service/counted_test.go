package service_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"osprey/service"
)

// TestOpenStreamIsCounted keeps a stream open that has nothing to tell: it is counted again and again, so that nobody
// takes what it asks for something that nobody asks. That is no answer for which somebody waited.
func TestOpenStreamIsCounted(t *testing.T) {
	t.Cleanup(service.CountOpenEvery(500 * time.Millisecond))
	k := keep(t, "")
	req, _ := http.NewRequestWithContext(t.Context(), http.MethodPost, k.url+"/graphql", strings.NewReader(`{"query": "query Quiet { answer }"}`))
	for name, value := range map[string]string{"Accept": "text/event-stream", "Content-Type": "application/json", "Osprey-Live": "on"} {
		req.Header.Set(name, value)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		res, err := http.Get(k.url + "/api/v1/traffic")
		if err != nil {
			t.Fatal(err)
		}
		var told struct {
			Operations []struct {
				Name          string
				Asked, Failed int
				P99           float64
			}
		}
		err = json.NewDecoder(res.Body).Decode(&told)
		res.Body.Close()
		if err != nil {
			t.Fatal(err)
		}
		if len(told.Operations) == 1 && told.Operations[0].Asked >= 4 {
			if o := told.Operations[0]; o.Name != "Quiet" || o.Failed > 0 || o.P99 <= 0 {
				t.Errorf("counted is %+v", o)
			}
			return
		}
		if time.Now().After(until) {
			t.Fatalf("counted is %+v", told.Operations)
		}
	}
}
