package main

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/bench/peers"
	"osprey/demo"
	"osprey/project"
)

// plainTables are the tables of the arrivals board as MariaDB and SQLite have them, with
// the query that reads them from the registry.
var plainTables = []struct{ name, columns, indexes, query string }{
	{"operators", "id int PRIMARY KEY, name varchar(100) NOT NULL, country varchar(100) NOT NULL", "", "SELECT id, name, country FROM operators"},
	{"craft", "imo int PRIMARY KEY, craft_type varchar(20) NOT NULL, name varchar(100) NOT NULL, length_m double NOT NULL, operator_id int NOT NULL", "", "SELECT imo, craft_type::text, name, length_m, operator_id FROM craft"},
	{"berths", "quay_code varchar(20) NOT NULL, number int NOT NULL, name varchar(100) NOT NULL, length_m double NOT NULL, PRIMARY KEY (quay_code, number)", "", "SELECT quay_code, number, name, length_m FROM berths"},
	{"port_calls", "id bigint PRIMARY KEY, craft_imo int NOT NULL, quay_code varchar(20), berth_number int, arrived_at datetime NOT NULL, departed_at datetime, purpose varchar(20) NOT NULL, cargo_t decimal(10,1)",
		"craft_imo, arrived_at DESC;arrived_at DESC, id", "SELECT id, craft_imo, quay_code, berth_number, to_char(arrived_at AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS'), to_char(departed_at AT TIME ZONE 'UTC', 'YYYY-MM-DD HH24:MI:SS'), purpose::text, cargo_t::text FROM port_calls"},
	{"pilots", "id int PRIMARY KEY, name varchar(100) NOT NULL, licence varchar(40) NOT NULL", "", "SELECT id, name, licence FROM pilots"},
	{"pilotage", "id bigint PRIMARY KEY, call_id bigint NOT NULL, pilot_id int NOT NULL", "call_id;pilot_id", "SELECT id, call_id, pilot_id FROM pilotage"},
}

// plainSchema is the part of the harbour's schema that the board needs.
const plainSchema = `
type Query { portCalls(limit: Int, sort: [PortCallSort!]): [PortCall!] @read }
type PortCall @stored(in: "registry", as: "port_calls", key: "id") {
  id: ID! arrivedAt: DateTime! departedAt: DateTime purpose: Purpose! cargoT: Decimal
  craft: Craft @related(here: "craft_imo", there: "imo")
  berth: Berth @related(here: ["quay_code", "berth_number"], there: ["quay_code", "number"])
  pilots: [Pilot!] @related(through: {set: "pilotage", here: "call_id", there: "pilot_id"}, sort: "name")
}
enum Purpose { LOADING @at(path: "load") UNLOADING @at(path: "unload") BUNKERING @at(path: "bunker") PASSENGERS @at(path: "passengers") REPAIR @at(path: "repair") }
interface Craft @stored(in: "registry", as: "craft", key: "imo") @kind(by: "craft_type") {
  imo: ID! name: String! lengthM: Float! operator: Operator @related(here: "operator_id", there: "id")
  calls(limit: Int): [PortCall!] @related(there: "craft_imo", sort: "arrivedAt desc")
}
%s
type Operator @stored(in: "registry", as: "operators", key: "id") { id: ID! name: String! country: String! }
type Berth @stored(in: "registry", as: "berths", key: ["quay_code", "number"]) { number: Int! name: String! lengthM: Float! }
type Pilot @stored(in: "registry", as: "pilots", key: "id") { id: ID! name: String! licence: String! }
`

// databases measures Osprey on MariaDB and on SQLite beside handlers written by hand for
// them, with the registry's data: the arrivals board, and lists in lists.
func (b *bench) databases(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "databases-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	maria, err := demo.StartMariaDB(ctx)
	if err != nil {
		return err
	}
	defer maria.Stop()
	file := filepath.Join(dir, "registry.db")
	for _, kind := range []struct{ name, title, url, driver, dsn, read string }{
		{"mysql", "MariaDB", maria.URL, "mysql", maria.DSN, maria.DSN + "?interpolateParams=true"},
		{"sqlite", "SQLite", "sqlite:" + file, "sqlite", file, "file:" + file + "?mode=ro"},
	} {
		if err := b.copyRegistry(ctx, kind.driver, kind.dsn); err != nil {
			return fmt.Errorf("%s: %w", kind.title, err)
		}
		projectDir := filepath.Join(dir, kind.name)
		if err := plainProject(projectDir, kind.name, kind.url); err != nil {
			return err
		}
		fmt.Printf("\n%s, with the data of the registry\n", kind.title)
		if err := b.database(ctx, kind.driver+" "+kind.read, projectDir); err != nil {
			return fmt.Errorf("%s: %w", kind.title, err)
		}
	}
	return nil
}

// copyRegistry copies the tables of the board.
func (b *bench) copyRegistry(ctx context.Context, driver, dsn string) error {
	from, err := pgx.Connect(ctx, b.harbour.RegistryURL)
	if err != nil {
		return err
	}
	defer from.Close(ctx)
	to, err := sql.Open(driver, dsn)
	if err != nil {
		return err
	}
	defer to.Close()
	for _, t := range plainTables {
		statements := []string{"CREATE TABLE " + t.name + " (" + t.columns + ")"}
		for i, columns := range strings.Split(t.indexes, ";") {
			if columns != "" {
				statements = append(statements, fmt.Sprintf("CREATE INDEX %s_%d ON %s (%s)", t.name, i, t.name, columns))
			}
		}
		for _, statement := range statements {
			if _, err := to.ExecContext(ctx, statement); err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		rows, err := from.Query(ctx, t.query)
		if err != nil {
			return err
		}
		tx, err := to.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		for rows.Next() {
			values, err := rows.Values()
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, "INSERT INTO "+t.name+" VALUES (?"+strings.Repeat(", ?", len(values)-1)+")", values...); err != nil {
				return err
			}
		}
		if err := rows.Err(); err != nil {
			return err
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	analyze := "ANALYZE"
	if driver == "mysql" {
		analyze = "ANALYZE TABLE operators, craft, berths, port_calls, pilots, pilotage"
	}
	_, err = to.ExecContext(ctx, analyze)
	return err
}

// plainProject makes the folder of a project on one database.
func plainProject(dir, kind, url string) error {
	var craft strings.Builder
	for _, name := range []string{"CargoShip cargo", "Tanker tanker", "Ferry ferry", "Tug tug"} {
		name, stored, _ := strings.Cut(name, " ")
		fmt.Fprintf(&craft, "type %s implements Craft @kind(is: %q) { imo: ID! name: String! lengthM: Float! operator: Operator calls(limit: Int): [PortCall!] }\n", name, stored)
	}
	latest, err := os.ReadFile(filepath.Join(projectDir, "operations", "Latest.graphql"))
	if err != nil {
		return err
	}
	for name, text := range map[string]string{
		project.ConfigFile:          fmt.Sprintf("sources:\n  registry: { kind: %s, url: %q, naming: snake }\n", kind, url),
		"schema/board.graphql":      fmt.Sprintf(plainSchema, craft.String()),
		"operations/Latest.graphql": string(latest),
	} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// plainHandler returns the handler of a plain peer on a database: "plain-levels mysql
// root@…".
func plainHandler(what string, pool int) http.Handler {
	name, rest, _ := strings.Cut(what, " ")
	driver, dsn, _ := strings.Cut(rest, " ")
	for i := range peers.Plain {
		if p := &peers.Plain[i]; p.Name == name {
			db, err := sql.Open(driver, dsn)
			if err != nil {
				return nil
			}
			db.SetMaxOpenConns(pool)
			db.SetMaxIdleConns(pool)
			return p.Handler(db)
		}
	}
	return nil
}

// database measures the board and lists in lists on one database.
func (b *bench) database(ctx context.Context, opened, dir string) error {
	var servers []*server
	defer func() {
		for _, s := range servers {
			s.stop()
		}
	}()
	for _, p := range peers.Plain {
		s, err := b.start(ctx, p.Name, p.Title, p.Name+" "+opened, func(limit int) []byte { return get("/arrivals?limit=" + strconv.Itoa(limit)) })
		if err != nil {
			return err
		}
		servers = append(servers, s)
	}
	osprey, err := b.start(ctx, "osprey", "Osprey", dir, savedRequest)
	if err != nil {
		return err
	}
	servers = append(servers, osprey)
	for _, n := range b.sizes {
		if err := sameAnswers(ctx, servers, n); err != nil {
			return err
		}
	}
	for _, clients := range []int{1, 8} {
		for _, n := range b.sizes {
			results, err := b.interleave(servers, n, clients)
			if err != nil {
				return err
			}
			printTable(servers, results, n, clients)
		}
	}
	fmt.Println("\nlists in lists, of 50 port calls, one client: median")
	fmt.Print("levels")
	for levels := 1; levels <= 9; levels++ {
		for _, s := range servers {
			s.request = func(limit int) []byte { return get(fmt.Sprintf("/arrivals?limit=%d&levels=%d", limit, levels)) }
		}
		osprey.request = func(limit int) []byte {
			return get("/graphql?query=" + url.QueryEscape(nested(levels)) + "&variables=" + url.QueryEscape(fmt.Sprintf(`{"limit":%d}`, limit)))
		}
		if err := sameAnswers(ctx, servers, 50); err != nil {
			return err
		}
		results, err := b.interleave(servers, 50, 1)
		if err != nil {
			return err
		}
		if levels == 1 {
			for _, s := range servers {
				fmt.Printf("\t%s", s.title)
			}
			fmt.Println()
		}
		fmt.Print(levels)
		for _, s := range servers {
			fmt.Printf("\t%s", short(time.Duration(duration(results[s], 0.5))))
		}
		fmt.Println()
	}
	return nil
}
