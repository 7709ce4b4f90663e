package conform

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"time"
)

// A Record is one record of the suite's data; a field that is missing has no
// value.
type Record map[string]any

// Sets are the names of the record sets. Crews are pairs, which only stores
// that fold are asked for.
var Sets = []string{"owners", "vessels", "crews"}

// Fields has, for each set, the fields in order with their kinds; "?" behind
// one says that it may be missing.
var Fields = map[string][][2]string{
	"owners": {{"id", "int"}, {"name", "text"}, {"parent_id", "int?"}},
	"vessels": {{"id", "int"}, {"code", "text"}, {"name", "text?"}, {"length", "float?"}, {"built", "date?"}, {"seen", "time?"},
		{"active", "bool?"}, {"grade", "text?"}, {"price", "decimal?"}, {"big", "int?"}, {"owner_id", "int?"}},
}

// PairFields are those of crews.
var PairFields = [][2]string{{"vessel_id", "int"}, {"owner_id", "int"}}

// Pairs returns the crews: which owners sail on which vessels.
func Pairs() []Record {
	r := rand.New(rand.NewPCG(5, 17))
	var list []Record
	for vessel := 1; vessel <= 90; vessel++ {
		for _, owner := range r.Perm(13)[:r.IntN(4)] {
			list = append(list, Record{"vessel_id": vessel, "owner_id": owner + 1})
		}
	}
	return list
}

// names are texts that are easily compared wrongly.
var names = []string{"Aurora", "aurora", "Aurora ", "Äolus", "Zephyr", "Tern 10%", "Tern_10", `Back\slash`, `O'Hara "III"`, "", "Été", "日和", "tern", "a.b*c", "[x]", "emoji ⚓"}

// Data returns the records of the suite, the same for every call. Lengths are
// such that sums of them are exact in binary.
func Data() map[string][]Record {
	r := rand.New(rand.NewPCG(7, 11))
	data := map[string][]Record{}
	for id := 1; id <= 12; id++ {
		o := Record{"id": id, "name": fmt.Sprintf("Owner %c%d", 'A'+id%3, id)}
		if id > 4 {
			o["parent_id"] = 1 + r.IntN(id-1)
		}
		data["owners"] = append(data["owners"], o)
	}
	day := time.Date(2019, 5, 1, 0, 0, 0, 0, time.UTC)
	for id := 1; id <= 90; id++ {
		v := Record{"id": id, "code": fmt.Sprintf("V-%03d", id*7%91)}
		maybe := func(field string, value any) {
			if r.IntN(5) > 0 {
				v[field] = value
			}
		}
		maybe("name", names[r.IntN(len(names))])
		maybe("length", float64(r.IntN(400))/4+10)
		maybe("built", day.AddDate(0, 0, r.IntN(40)).Format(time.DateOnly))
		maybe("seen", day.Add(time.Duration(r.IntN(50_000))*time.Minute).Add(time.Duration(r.IntN(3))*250*time.Millisecond).Format("2006-01-02T15:04:05.000Z"))
		maybe("active", r.IntN(2) == 0)
		maybe("grade", []string{"first", "second", "third"}[r.IntN(3)])
		maybe("price", json.Number(fmt.Sprintf("%d.%d5", r.IntN(30)-5, r.IntN(9)+1)))
		maybe("big", []int64{-9007199254740993, 9007199254740993, 9007199254740992, 1 << 62, 0, 5}[r.IntN(6)])
		maybe("owner_id", 1+r.IntN(14)) // some owners are not there
		data["vessels"] = append(data["vessels"], v)
	}
	return data
}

// RelatedSchema has also what only stores that fold can do.
const RelatedSchema = Schema + `
extend type Vessel {
  crew(filter: OwnerFilter, sort: [OwnerSort!], limit: Int, offset: Int): [Owner!]! @related(through: {set: "crews", here: "vessel_id", there: "owner_id"}, sort: "name")
  crewPages(first: Int, last: Int, after: String, filter: OwnerFilter): OwnerConnection! @related(through: {set: "crews", here: "vessel_id", there: "owner_id"}, sort: "name desc")
  crewSize(filter: OwnerFilter): Int! @total(of: "crew")
}
extend type Owner {
  sails(filter: VesselFilter, limit: Int): [Vessel!]! @related(through: {set: "crews", here: "owner_id", there: "vessel_id"}, sort: "code")
  lengths(filter: VesselFilter): Float @total(of: "sails", sum: "length")
}
`

// JSON returns the records of a set as a JSON array.
func JSON(records []Record) string {
	text, err := json.Marshal(records)
	if err != nil {
		panic(err)
	}
	return string(text)
}

// Schema is the types over the sets, which are in the source "s" as they are.
const Schema = `
type Query {
  vessel(id: ID!): Vessel @read
  vessels(id: [ID!], grade: Grade, filter: VesselFilter, sort: [VesselSort!], limit: Int, offset: Int): [Vessel!]! @read
  fleet(first: Int, after: String, last: Int, before: String, filter: VesselFilter, sort: [VesselSort!]): VesselConnection! @read
  owners(filter: OwnerFilter, sort: [OwnerSort!], limit: Int, offset: Int): [Owner!]! @read
  vesselCount(filter: VesselFilter): Int! @total(of: "vessels")
  longest(filter: VesselFilter): Float @total(of: "vessels", max: "length")
  first(filter: VesselFilter): DateTime @total(of: "vessels", min: "seen")
  lengths(filter: VesselFilter): Float @total(of: "vessels", sum: "length")
  mean(filter: VesselFilter): Float @total(of: "vessels", avg: "length")
}

type Vessel @stored(in: "s", as: "vessels", key: "id") {
  id: ID!
  code: String!
  name: String
  length: Float
  built: Date
  seen: DateTime
  active: Boolean
  grade: Grade
  price: Decimal
  big: Int64
  owner: Owner @related(here: "owner_id")
}

enum Grade { FIRST @at(path: "first") SECOND @at(path: "second") THIRD @at(path: "third") }

type Owner @stored(in: "s", as: "owners", key: "id") {
  id: ID!
  name: String!
  parent: Owner @related(here: "parent_id")
  children(limit: Int, sort: [OwnerSort!]): [Owner!]! @related(there: "parent_id", sort: "name desc")
  vessels(filter: VesselFilter, sort: [VesselSort!], limit: Int, offset: Int): [Vessel!]! @related(there: "owner_id")
  fleet(first: Int = 3, after: String, last: Int, before: String, filter: VesselFilter, sort: [VesselSort!]): VesselConnection! @related(there: "owner_id", sort: "name")
  size(filter: VesselFilter): Int! @total(of: "vessels")
  longest: Float @total(of: "vessels", max: "length")
  mean: Float @total(of: "vessels", avg: "length")
}
`
