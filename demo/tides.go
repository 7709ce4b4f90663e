package demo

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// TidesToken is what the tide office's service wants to see.
const TidesToken = "skerrow-tides"

// Tides is the stand-in for the tide office's service. It keeps the requests
// it saw, so that tests can count them where they arrive.
type Tides struct {
	mu     sync.Mutex
	seen   []string
	phones map[string]*string // that were changed, by station
}

// Requests returns the path of every request since the last call.
func (t *Tides) Requests() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	seen := t.seen
	t.seen = nil
	return seen
}

type station struct {
	Code      string  `json:"code"`
	Name      string  `json:"name"`
	Latitude  float64 `json:"latitude"`
	Longitude float64 `json:"longitude"`
	Datum     *string `json:"datum"`
}

type tideEvent struct {
	Station string    `json:"station"`
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	HeightM float64   `json:"heightM"`
}

// stations are the gauges around the port.
var stations = []station{
	{"SKE", "Skerrow Bar", 58.412, -3.107, ptr("chart datum")}, {"NOR", "Norrisund", 58.391, -3.054, ptr("chart datum")},
	{"HOL", "Holm Light", 58.447, -3.171, nil}, {"TAR", "Tarn Ness", 58.365, -3.012, ptr("chart datum")},
	{"BRA", "Brandal Head", 58.478, -3.233, ptr("ordnance")}, {"LUN", "Lund Sound", 58.340, -2.981, nil},
	{"VES", "Vest Rock", 58.501, -3.290, ptr("chart datum")}, {"KEL", "Kelder Point", 58.322, -2.944, ptr("ordnance")},
}

// tideEvents are two weeks of high and low waters at a station.
func tideEvents(code string) []tideEvent {
	index := slices.IndexFunc(stations, func(s station) bool { return s.Code == code })
	if index < 0 {
		return nil
	}
	const half = 6*time.Hour + 12*time.Minute + 30*time.Second
	list := make([]tideEvent, 54)
	for i := range list {
		at := lastDay.Add(time.Duration(index)*11*time.Minute + time.Duration(i)*half)
		spring := 0.6 * math.Cos(float64(i)/54*2*math.Pi)
		list[i] = tideEvent{code, at, "H", math.Round((3.9+spring+float64(index)/20)*100) / 100}
		if i%2 == 1 {
			list[i].Kind, list[i].HeightM = "L", math.Round((0.9-spring/2)*100)/100
		}
	}
	return list
}

// Handler serves the stand-in.
func (t *Tides) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			t.mu.Lock()
			t.seen = append(t.seen, r.URL.RequestURI())
			t.mu.Unlock()
			if r.Header.Get("Authorization") != "Bearer "+TidesToken {
				http.Error(w, `{"error": "no credentials"}`, http.StatusUnauthorized)
				return
			}
			next.ServeHTTP(w, r)
		})
	})
	r.Get("/stations", func(w http.ResponseWriter, r *http.Request) {
		codes := r.URL.Query()["code"]
		list := []station{}
		for _, s := range stations {
			if len(codes) == 0 || slices.Contains(codes, s.Code) {
				list = append(list, s)
			}
		}
		results(w, list)
	})
	r.Get("/events", func(w http.ResponseWriter, r *http.Request) {
		list := []tideEvent{}
		for _, code := range slices.Compact(slices.Sorted(slices.Values(r.URL.Query()["station"]))) {
			list = append(list, ofKind(tideEvents(code), r.URL.Query().Get("kind"))...)
		}
		results(w, list)
	})
	r.Get("/stations/{station}/events", func(w http.ResponseWriter, r *http.Request) {
		results(w, ofKind(tideEvents(chi.URLParam(r, "station")), r.URL.Query().Get("kind")))
	})
	r.Get("/stations/{station}/contact", func(w http.ResponseWriter, r *http.Request) {
		index := slices.IndexFunc(stations, func(s station) bool { return s.Code == chi.URLParam(r, "station") })
		if index < 0 || index%4 == 3 {
			http.Error(w, `{"error": "nobody is on duty there"}`, http.StatusNotFound)
			return
		}
		phone := ptr(fmt.Sprintf("+00 555 01%02d", index))
		t.mu.Lock()
		if changed, ok := t.phones[stations[index].Code]; ok {
			phone = changed
		}
		t.mu.Unlock()
		send(w, map[string]any{"officer": firstNames[index] + " " + lastNames[index*2], "phone": phone})
	})
	r.Patch("/stations/{station}/contact", func(w http.ResponseWriter, r *http.Request) {
		code := chi.URLParam(r, "station")
		index := slices.IndexFunc(stations, func(s station) bool { return s.Code == code })
		if index < 0 || index%4 == 3 {
			http.Error(w, `{"error": "nobody is on duty there"}`, http.StatusNotFound)
			return
		}
		var given struct{ Phone *string }
		if err := json.NewDecoder(r.Body).Decode(&given); err != nil || given.Phone != nil && !strings.HasPrefix(*given.Phone, "+") {
			http.Error(w, `{"title": "Not valid", "detail": "a phone number begins with + and its country"}`, http.StatusUnprocessableEntity)
			return
		}
		t.mu.Lock()
		defer t.mu.Unlock()
		if t.phones == nil {
			t.phones = map[string]*string{}
		}
		t.phones[code] = given.Phone
		w.WriteHeader(http.StatusNoContent)
	})
	return r
}

func ofKind(list []tideEvent, kind string) []tideEvent {
	return slices.DeleteFunc(list, func(e tideEvent) bool { return kind != "" && e.Kind != kind })
}

func results(w http.ResponseWriter, list any) { send(w, map[string]any{"results": list}) }

func send(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(v)
}
