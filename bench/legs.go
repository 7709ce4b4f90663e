package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"text/tabwriter"
	"time"

	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	"osprey/demo"
)

// A leg is an answer from one kind of store: by Osprey, and by hand with the
// store's usual driver or client.
type leg struct {
	name, title string
	operation   string // with a variable limit
	byHand      func(ctx context.Context) (http.Handler, error)
	limits      []int
}

var legs = []leg{
	{
		"documents", "inspections from the document store",
		`query ($limit: Int!) { inspections(limit: $limit, sort: [{heldOn: DESC}]) { id heldOn outcome inspector { name badge } findings { code severity text } } }`,
		documentsByHand, []int{20, 200},
	},
	{
		"remote", "stations and their events from the remote service",
		`query ($limit: Int!) { stations { code name latitude longitude datum events(limit: $limit) { at kind heightM } } }`,
		remoteByHand, []int{4, 54},
	},
}

// legHandler returns what serves a leg by hand.
func legHandler(name string) func(context.Context) (http.Handler, error) {
	for _, l := range legs {
		if "byhand:"+l.name == name {
			return l.byHand
		}
	}
	return nil
}

// legs measures what Osprey adds to the drivers of other stores: processor
// time of the server's process, since the stores themselves take most of an
// answer's time.
func (b *bench) legs(ctx context.Context) error {
	osprey, err := b.start(ctx, "osprey", "Osprey", projectDir, nil)
	if err != nil {
		return err
	}
	defer osprey.stop()
	fmt.Println("\nOther stores: the server's own processor time for an answer, with 2 clients")
	w := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	defer w.Flush()
	for _, l := range legs {
		hand, err := b.start(ctx, l.name, "by hand", "byhand:"+l.name, nil)
		if err != nil {
			return err
		}
		defer hand.stop()
		ask := ospreyRequest(l.operation)
		for _, limit := range l.limits {
			pair := []*server{osprey, hand}
			hand.request = func(int) []byte { return get("/?limit=" + strconv.Itoa(limit)) }
			osprey.request = func(int) []byte { return ask(limit) }
			if err := sameAnswers(ctx, pair, limit); err != nil {
				return err
			}
			results, err := b.interleave(pair, limit, 2)
			if err != nil {
				return err
			}
			fmt.Fprintf(w, "  %s, limit %d\t", l.title, limit)
			for _, s := range pair {
				cpu := median(results[s], func(s *sample) float64 { return s.each(float64(s.server.Processor)) })
				allocs := median(results[s], func(s *sample) float64 { return s.each(float64(s.server.Mallocs)) })
				fmt.Fprintf(w, "%s %s, %.0f allocations, %.0f answers/s\t", s.title, short(time.Duration(cpu)), allocs, median(results[s], (*sample).throughput))
			}
			fmt.Fprintln(w)
		}
	}
	return nil
}

func limitOf(r *http.Request) int {
	n, _ := strconv.Atoi(r.URL.Query().Get("limit"))
	return n
}

func respond(w http.ResponseWriter, data any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(map[string]any{"data": data})
}

// documentsByHand answers with the document store's driver and structs.
func documentsByHand(ctx context.Context) (http.Handler, error) {
	address, err := url.Parse(os.Getenv("INSPECTIONS_URL"))
	if err != nil {
		return nil, err
	}
	client, err := mongo.Connect(options.Client().ApplyURI(address.String()))
	if err != nil {
		return nil, err
	}
	inspections := client.Database(address.Path[1:]).Collection("inspections")
	type finding struct {
		Code     string `json:"code" bson:"code"`
		Severity string `json:"severity" bson:"severity"`
		Text     string `json:"text" bson:"text"`
	}
	type inspection struct {
		StoredID  any       `json:"-" bson:"_id"`
		ID        string    `json:"id" bson:"-"`
		Held      time.Time `json:"-" bson:"heldOn"`
		HeldOn    string    `json:"heldOn" bson:"-"`
		Outcome   string    `json:"outcome" bson:"outcome"`
		Inspector *struct {
			Name  string `json:"name" bson:"name"`
			Badge string `json:"badge" bson:"badge"`
		} `json:"inspector" bson:"inspector"`
		Findings []finding `json:"findings" bson:"findings"`
	}
	names := map[string]string{"passed": "PASSED", "deficient": "DEFICIENT", "detained": "DETAINED", "minor": "MINOR", "major": "MAJOR", "critical": "CRITICAL"}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		wanted := bson.D{{Key: "_id", Value: 1}, {Key: "heldOn", Value: 1}, {Key: "outcome", Value: 1}, {Key: "inspector", Value: 1}, {Key: "findings", Value: 1}}
		cursor, err := inspections.Find(r.Context(), bson.D{}, options.Find().SetProjection(wanted).SetSort(bson.D{{Key: "heldOn", Value: -1}, {Key: "_id", Value: 1}}).SetLimit(int64(limitOf(r))))
		list := []inspection{}
		if err == nil {
			err = cursor.All(r.Context(), &list)
		}
		for i := range list {
			x := &list[i]
			if id, ok := x.StoredID.(bson.ObjectID); ok {
				x.ID = id.Hex()
			} else {
				x.ID = fmt.Sprint(x.StoredID)
			}
			x.HeldOn, x.Outcome = x.Held.UTC().Format(time.DateOnly), names[x.Outcome]
			if x.Findings == nil {
				x.Findings = []finding{}
			}
			for j := range x.Findings {
				x.Findings[j].Severity = names[x.Findings[j].Severity]
			}
		}
		respond(w, map[string]any{"inspections": list}, err)
	}), nil
}

// remoteByHand answers with the standard client and structs: the stations, and
// then the events of all of them in one request.
func remoteByHand(context.Context) (http.Handler, error) {
	type event struct {
		Station string    `json:"-"`
		At      time.Time `json:"at"`
		Kind    string    `json:"kind"`
		HeightM float64   `json:"heightM"`
	}
	type station struct {
		Code      string   `json:"code"`
		Name      string   `json:"name"`
		Latitude  float64  `json:"latitude"`
		Longitude float64  `json:"longitude"`
		Datum     *string  `json:"datum"`
		Events    []*event `json:"events"`
	}
	address := os.Getenv("TIDES_URL")
	read := func(ctx context.Context, path string, into any) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+path, nil)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+demo.TidesToken)
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if resp.StatusCode != http.StatusOK {
			return fmt.Errorf("the tide office answers %s", resp.Status)
		}
		return json.NewDecoder(resp.Body).Decode(into)
	}
	kinds := map[string]string{"H": "HIGH", "L": "LOW"}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var stations struct{ Results []*station }
		err := read(r.Context(), "/stations", &stations)
		query, byCode := url.Values{}, map[string]*station{}
		for _, s := range stations.Results {
			s.Events = []*event{}
			byCode[s.Code] = s
			query.Add("station", s.Code)
		}
		var events struct {
			Results []struct {
				Station string
				event
			}
		}
		if err == nil {
			err = read(r.Context(), "/events?"+query.Encode(), &events)
		}
		for i := range events.Results {
			e := &events.Results[i]
			e.event.Kind = kinds[e.event.Kind]
			byCode[e.Station].Events = append(byCode[e.Station].Events, &e.event)
		}
		for _, s := range stations.Results {
			slices.SortStableFunc(s.Events, func(a, b *event) int { return a.At.Compare(b.At) })
			s.Events = s.Events[:min(limitOf(r), len(s.Events))]
		}
		respond(w, map[string]any{"stations": stations.Results}, err)
	}), nil
}
