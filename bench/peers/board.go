package peers

import (
	"encoding/json"
	"net/http"
	"time"
)

// The board as structs, for the peers that write it with encoding/json.
type board struct {
	Data struct {
		PortCalls []*portCall `json:"portCalls"`
	} `json:"data"`
}

type portCall struct {
	ID         int64      `json:"id,string"`
	ArrivedAt  time.Time  `json:"arrivedAt"`
	DepartedAt *time.Time `json:"departedAt"`
	Purpose    string     `json:"purpose"`
	CargoT     *string    `json:"cargoT"`
	Craft      *craft     `json:"craft"`
	Berth      *berth     `json:"berth"`
	Pilots     []*pilot   `json:"pilots"`

	craftIMO    int32
	quayCode    *string
	berthNumber *int32
}

type craft struct {
	Type     string    `json:"__typename"`
	IMO      int32     `json:"imo,string"`
	Name     string    `json:"name"`
	LengthM  float64   `json:"lengthM"`
	Operator *operator `json:"operator"`

	operatorID int32
}

type operator struct {
	ID      int32  `json:"id,string"`
	Name    string `json:"name"`
	Country string `json:"country"`
}

type berth struct {
	Number  int32   `json:"number"`
	Name    string  `json:"name"`
	LengthM float64 `json:"lengthM"`
}

type pilot struct {
	ID      int32  `json:"id,string"`
	Name    string `json:"name"`
	Licence string `json:"licence"`
}

// berthKey is a berth's primary key.
type berthKey struct {
	quay   string
	number int32
}

var purposes = map[string]string{
	"load": "LOADING", "unload": "UNLOADING", "bunker": "BUNKERING", "passengers": "PASSENGERS", "repair": "REPAIR",
}

var craftTypes = map[string]string{
	"cargo": "CargoShip", "tanker": "Tanker", "ferry": "Ferry", "tug": "Tug",
}

// The fields of each record, in the order in which they are scanned.
const (
	callFields     = `id, arrived_at, departed_at, purpose::text, cargo_t::text, craft_imo, quay_code, berth_number`
	craftFields    = `imo, craft_type::text, name, length_m, operator_id`
	operatorFields = `id, name, country`
	berthFields    = `quay_code, number, name, length_m`
)

func (c *portCall) scanned() []any {
	return []any{&c.ID, &c.ArrivedAt, &c.DepartedAt, &c.Purpose, &c.CargoT, &c.craftIMO, &c.quayCode, &c.berthNumber}
}

// finish turns what is stored into what is told.
func (c *portCall) finish() {
	c.Purpose = purposes[c.Purpose]
	c.ArrivedAt = c.ArrivedAt.UTC()
	if c.DepartedAt != nil {
		utc := c.DepartedAt.UTC()
		c.DepartedAt = &utc
	}
	c.Pilots = []*pilot{}
}

func (c *craft) scanned() []any {
	return []any{&c.IMO, &c.Type, &c.Name, &c.LengthM, &c.operatorID}
}

func (o *operator) scanned() []any { return []any{&o.ID, &o.Name, &o.Country} }

// write sends the board.
func write(w http.ResponseWriter, calls []*portCall) error {
	var b board
	b.Data.PortCalls = calls
	if b.Data.PortCalls == nil {
		b.Data.PortCalls = []*portCall{}
	}
	return json.NewEncoder(w).Encode(&b)
}
