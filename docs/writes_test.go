package docs_test

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"osprey"
	"osprey/demo/demotest"
)

// TestEachWrite holds the harbour to have an operation for each of its writes, and does them all
// in their order: each answers with something, and leaves nothing behind.
func TestEachWrite(t *testing.T) {
	service := open(t)
	demotest.KeepRegistry(t)
	folder := "../demo/harbour/operations/writes"
	schema, err := os.ReadFile("../demo/harbour/schema/writes.graphql")
	if err != nil {
		t.Fatal(err)
	}
	_, fields, _ := strings.Cut(string(schema), "type Mutation {")
	fields, _, _ = strings.Cut(fields, "\n}")
	operations := ""
	order := strings.Fields("../Arrive ArriveAll FileAll Correct CorrectAll Move Load BoardPilot Assign Release Depart Strike StrikeAll License Enrol Rename Sign Retire Inspect Find Amend Withdraw Dismiss Reach")
	for _, name := range order {
		text, err := os.ReadFile(filepath.Join(folder, name+".graphql"))
		if err != nil {
			t.Fatal(err)
		}
		operations += string(text)
	}
	if files, _ := filepath.Glob(folder + "/*.graphql"); len(files) != len(order)-1 {
		t.Errorf("there are %d operations, and %d are done", len(files)+1, len(order))
	}
	for _, m := range regexp.MustCompile(`(?m)^  (\w+)\(`).FindAllStringSubmatch(fields, -1) {
		if !regexp.MustCompile(`\b` + m[1] + `\(`).MatchString(operations) {
			t.Errorf("no operation does %s", m[1])
		}
	}
	vars := map[string]any{"craft": "9100112", "at": "1990-03-01T08:30:00Z", "quay": "Q1", "berth": 2}
	for _, m := range regexp.MustCompile(`(?m)^mutation (\w+)`).FindAllStringSubmatch(operations, -1) {
		a, err := service.Ask(context.Background(), osprey.Operation{Name: m[1], Text: operations, Variables: vars})
		if err != nil || len(a.Errors) > 0 || strings.Contains(string(a.Data), ":null}") {
			t.Fatalf("%s is answered with %s %v %v", m[1], a.Data, a.Errors, err)
		}
		if m[1] == "Arrive" {
			var got struct{ Arrive struct{ ID string } }
			if err := json.Unmarshal(a.Data, &got); err != nil {
				t.Fatal(err)
			}
			vars["call"] = got.Arrive.ID
		}
	}
	left, err := service.Ask(context.Background(), osprey.Operation{Text: `{ portCalls(filter: {arrivedAt: {below: "1991-01-01T00:00:00Z"}}) { id } }`})
	if err != nil || string(left.Data) != `{"portCalls":[]}` {
		t.Errorf("left are %s %v", left.Data, err)
	}
}
