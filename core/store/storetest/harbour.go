package storetest

import (
	"os"
	"path/filepath"
	"testing"

	"osprey/core/schema"
	"osprey/core/store"
)

// RegistryCatalogue is the relational part of the harbour, as text.
const RegistryCatalogue = `
operators: id int! name text country text parent_id int?+ billing_token text
craft: imo int! craft_type text=cargo|tanker|ferry|tug name text+ length_m float draught_dm int? built_on date? operator_id int+ tow_imo int? deadweight_t int? containers int? double_hull bool? passengers int? cars int? bollard_pull_t decimal? fittings json?
quays: code text! name text station_code text?+
berths: quay_code text number int name text length_m float max_draught_dm int (quay_code,number)!
port_calls: id int!~ craft_imo int+ quay_code text?+ berth_number int? arrived_at time+ departed_at time? purpose text=load|unload|bunker|passengers|repair cargo_t decimal?
pilots: id int!~ name text licence text!
pilotage: id int!~ call_id int+ pilot_id int+ role text=lead|assist|trainee boarded_at time (call_id,pilot_id)!
people: login text! name text email text operator_id int?+ pilot_id int?
watches: login text imo int+ (login,imo)!
dues: id int! operator_id int+ call_id int+ amount decimal paid_on date?
`

// InspectionsCatalogue is the document part of the harbour, as text.
const InspectionsCatalogue = `
inspections: _id text! craft.imo text+ craft.name text heldOn time outcome text inspector.name text inspector.badge text findings.code text findings.severity text findings.text text callId int?+ evidence.type text evidence.caption text evidence.of text evidence.value float evidence.unit text
incidents: _id text! callId int+ at time kind text summary text subjectKind text? subjectId text?+
manifests: _id text! callId int+ lines.goods text lines.tonnes float lines.hazardous bool
`

// TidesCatalogue is the remote part of the harbour, as text.
const TidesCatalogue = `
stations: code text! name text latitude float longitude float datum text?
events: station text at time kind text heightM float
contacts: station text! officer text phone text?
`

// NoticesCatalogue is the part of the harbour master's service, as text.
const NoticesCatalogue = `
notices: id text! title text text text quay text issuedAt time validUntil time? author text? replaces text?
officers: id text! name text post text
`

// HarbourTexts reads the demo's schema; root is the path to the sources.
func HarbourTexts(t testing.TB, root string) []schema.Text {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(root, "demo/harbour/schema/*.graphql"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no schema of the demo: %v", err)
	}
	var texts []schema.Text
	for _, file := range files {
		body, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, schema.Text{Name: filepath.Base(file), Body: string(body)})
	}
	return texts
}

// Writable says that a source is written to, though nothing is ever begun.
func Writable() *store.Writing { return &store.Writing{Shares: true} }

// Documents says that a source is written to document by document, though nothing is.
func Documents() *store.Writing { return &store.Writing{Nests: true, Apart: true} }

// AnyFunction says that a source has every function.
func AnyFunction(string, store.Signature) error { return nil }
