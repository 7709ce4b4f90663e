package peers

import (
	"context"
	"database/sql"
	"encoding/json"
	"net/http"
	"strconv"
	"time"
)

// A nestedCall and a nestedCraft are what lists in lists answer.
type nestedCall struct {
	ID        int64        `json:"id,string"`
	ArrivedAt time.Time    `json:"arrivedAt"`
	Purpose   string       `json:"purpose"`
	Craft     *nestedCraft `json:"craft,omitempty"`

	craftIMO int32
}

type nestedCraft struct {
	IMO     int32         `json:"imo,string"`
	Name    string        `json:"name"`
	LengthM float64       `json:"lengthM"`
	Calls   []*nestedCall `json:"calls,omitempty"`
}

const (
	nestedFirst  = `SELECT id, arrived_at, purpose, craft_imo FROM port_calls ORDER BY arrived_at DESC, id LIMIT ?`
	nestedLatest = `SELECT id, arrived_at, purpose, craft_imo FROM
 (SELECT id, arrived_at, purpose, craft_imo, row_number() OVER (PARTITION BY craft_imo ORDER BY arrived_at DESC, id) AS n FROM port_calls WHERE craft_imo IN `
)

func nestedCalls(ctx context.Context, db *sql.DB, text string, args []any) (calls []*nestedCall, err error) {
	err = each(ctx, db, text, args, func(scan func(...any) error) error {
		c := &nestedCall{}
		var arrived any
		err := scan(&c.ID, &arrived, &c.Purpose, &c.craftIMO)
		if err == nil {
			c.Purpose = purposes[c.Purpose]
			c.ArrivedAt, err = moment(arrived)
		}
		calls = append(calls, c)
		return err
	})
	return calls, err
}

// nestedLevels reads level by level, by the keys of the one above; the craft of calls
// that are seen again are not read again.
func nestedLevels(ctx context.Context, db *sql.DB, limit, levels int) ([]*nestedCall, error) {
	roots, err := nestedCalls(ctx, db, nestedFirst, []any{limit})
	calls := roots
	for level := 2; err == nil && level <= levels; level += 2 {
		imos := distinct(calls, func(c *nestedCall) (int32, bool) { return c.craftIMO, true })
		fleet := map[int32]*nestedCraft{}
		if err = each(ctx, db, "SELECT imo, name, length_m FROM craft WHERE imo IN "+among(len(imos)), imos, func(scan func(...any) error) error {
			c := &nestedCraft{}
			err := scan(&c.IMO, &c.Name, &c.LengthM)
			fleet[c.IMO] = c
			return err
		}); err != nil {
			return nil, err
		}
		for _, c := range calls {
			c.Craft = fleet[c.craftIMO]
		}
		if level == levels {
			break
		}
		if calls, err = nestedCalls(ctx, db, nestedLatest+among(len(imos))+") q WHERE n <= 1", imos); err != nil {
			return nil, err
		}
		for _, c := range calls {
			fleet[c.craftIMO].Calls = append(fleet[c.craftIMO].Calls, c)
		}
	}
	return roots, err
}

func plainNested(ctx context.Context, db *sql.DB, w http.ResponseWriter, limit, levels int) error {
	calls, err := nestedLevels(ctx, db, limit, levels)
	if err != nil {
		return err
	}
	return json.NewEncoder(w).Encode(map[string]any{"data": map[string]any{"portCalls": calls}})
}

// plainNestedJoined writes without encoding/json.
func plainNestedJoined(ctx context.Context, db *sql.DB, w http.ResponseWriter, limit, levels int) error {
	calls, err := nestedLevels(ctx, db, limit, levels)
	if err != nil {
		return err
	}
	_, err = w.Write(append(appendNested(append([]byte{}, `{"data":{"portCalls":`...), calls), "}}"...))
	return err
}

func appendNested(b []byte, calls []*nestedCall) []byte {
	b = append(b, '[')
	for i, c := range calls {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(append(b, `{"id":"`...), c.ID, 10)
		b = c.ArrivedAt.AppendFormat(append(b, `","arrivedAt":"`...), time.RFC3339Nano)
		b = append(append(append(b, `","purpose":"`...), c.Purpose...), '"')
		if c.Craft != nil {
			b = strconv.AppendInt(append(b, `,"craft":{"imo":"`...), int64(c.Craft.IMO), 10)
			b = strconv.AppendQuote(append(b, `","name":`...), c.Craft.Name)
			b = strconv.AppendFloat(append(b, `,"lengthM":`...), c.Craft.LengthM, 'f', -1, 64)
			if c.Craft.Calls != nil {
				b = appendNested(append(b, `,"calls":`...), c.Craft.Calls)
			}
			b = append(b, '}')
		}
		b = append(b, '}')
	}
	return append(b, ']')
}
