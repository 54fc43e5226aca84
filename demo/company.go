// Package demo is Tarnwick Sound Ferries, the invented company of all examples:
// its database, its people, its reports and its jobs. It loads them through the
// client, as anybody would.
package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"ironbell/internal/core/job"

	"github.com/jackc/pgx/v5"
)

// Days is how many days of sailings the database holds.
const Days = 730

// reportsLogin is the login that reports run as.
const reportsLogin = "tarnwick_reports"

const schema = `
DROP SCHEMA IF EXISTS public CASCADE;
CREATE SCHEMA public;
CREATE TABLE ports (code text PRIMARY KEY, name text NOT NULL);
CREATE TABLE vessels (id int PRIMARY KEY, name text NOT NULL, built int NOT NULL, passengers int NOT NULL, lane_metres int NOT NULL);
CREATE TABLE routes (id int PRIMARY KEY, name text NOT NULL, from_port text NOT NULL REFERENCES ports, to_port text NOT NULL REFERENCES ports, minutes int NOT NULL);
CREATE TABLE sailings (id int PRIMARY KEY, route_id int NOT NULL REFERENCES routes, vessel_id int NOT NULL REFERENCES vessels,
  due timestamptz NOT NULL, left_at timestamptz, arrived_at timestamptz, cancelled text);
CREATE TABLE loads (sailing_id int PRIMARY KEY REFERENCES sailings, passengers int NOT NULL, cars int NOT NULL, freight_metres numeric(8,1) NOT NULL);
CREATE TABLE fuel (sailing_id int PRIMARY KEY REFERENCES sailings, litres numeric(10,1) NOT NULL);
CREATE TABLE crew (id int PRIMARY KEY, name text NOT NULL, rank text NOT NULL, vessel_id int NOT NULL REFERENCES vessels);
CREATE TABLE crew_duty (crew_id int NOT NULL REFERENCES crew, day date NOT NULL, began timestamptz NOT NULL, ended timestamptz NOT NULL, rest_hours numeric(4,1) NOT NULL, PRIMARY KEY (crew_id, day));
CREATE TABLE inspections (id int PRIMARY KEY, vessel_id int NOT NULL REFERENCES vessels, day date NOT NULL, inspector text NOT NULL, passed boolean NOT NULL);
CREATE TABLE defects (id int PRIMARY KEY, vessel_id int NOT NULL REFERENCES vessels, found date NOT NULL, closed date, critical boolean NOT NULL, what text NOT NULL);
CREATE TABLE weather (at timestamptz PRIMARY KEY, wind_knots numeric(4,1) NOT NULL, wave_metres numeric(3,1) NOT NULL, gauge_metres numeric(4,2) NOT NULL);
CREATE TABLE port_staff (port text NOT NULL REFERENCES ports, name text NOT NULL, post text NOT NULL, mail text NOT NULL);
`

const afterwards = `
CREATE INDEX ON sailings (due);
CREATE INDEX ON sailings (route_id, due);
CREATE INDEX ON crew_duty (day);
ALTER TABLE sailings ENABLE ROW LEVEL SECURITY;
CREATE POLICY all_of_them ON sailings FOR SELECT TO tarnwick_reports USING (true);
CREATE POLICY own_port ON sailings FOR SELECT TO tarnwick_ports USING (EXISTS (SELECT 1 FROM routes r JOIN ports p ON p.code = r.from_port
  WHERE r.id = route_id AND current_user = 'tarnwick_' || lower(p.code)));
GRANT USAGE ON SCHEMA public TO tarnwick_reports, tarnwick_ports;
GRANT SELECT ON ALL TABLES IN SCHEMA public TO tarnwick_reports, tarnwick_ports;
ANALYZE;
`

type port struct{ code, name, master, mail string }

// login is the login that sees the sailings of this port alone.
func (p port) login() string { return "tarnwick_" + strings.ToLower(p.code) }

var ports = []port{
	{"TQ", "Tarnwick Quay", "Oren Hask", "oren.hask@tarnwick.example"},
	{"EH", "Ellerhaven", "Brina Colm", "brina.colm@tarnwick.example"},
	{"GS", "Grey Skerry", "Tavish Rook", "tavish.rook@tarnwick.example"},
	{"PE", "Pennold", "Maeve Tarn", "maeve.tarn@tarnwick.example"},
	{"FM", "Fennmouth", "Idris Vane", "idris.vane@tarnwick.example"},
}

var vessels = []struct {
	name                    string
	built, passengers, lane int
}{
	{"Kittiwake", 2009, 310, 180},
	{"Guillemot", 2012, 280, 165},
	{"Fulmar", 1998, 190, 96},
	{"Razorbill", 2016, 340, 210},
	{"Sandpiper", 1994, 120, 48},
	{"Storm Petrel", 2021, 260, 150},
}

var routes = []struct {
	from, to, minutes int
	daily             int // departures on a full day
}{
	{0, 1, 35, 18}, {1, 0, 35, 18}, {0, 2, 50, 12}, {2, 0, 50, 12}, {0, 3, 75, 10}, {3, 4, 25, 12}, {4, 0, 80, 10},
}

var defectTexts = []string{
	"bow visor seal leaks", "lifeboat davit stiff", "radar two drops out", "car deck lamp dark",
	"bilge alarm sticks", "stern ramp chain worn", "engine two oil weeps", "fire door closer slow",
}

// Fill makes the company's data new in an empty or older database. The same seed
// makes the same data, moved so that it ends yesterday in zone.
func Fill(ctx context.Context, conn *pgx.Conn, seed uint64, today time.Time, reportsPassword string) error {
	roles := []string{reportsLogin, "tarnwick_ports"}
	for _, p := range ports {
		roles = append(roles, p.login())
	}
	for _, role := range roles {
		if _, err := conn.Exec(ctx,
			`DO $$ BEGIN IF NOT EXISTS (SELECT 1 FROM pg_roles WHERE rolname = '`+role+`') THEN CREATE ROLE `+role+
				` NOLOGIN; END IF; END $$`); err != nil {
			return fmt.Errorf("make the role %s: %w", role, err)
		}
	}
	// A password cannot be a parameter here; it is made of letters and digits.
	if _, err := conn.Exec(ctx, `ALTER ROLE `+reportsLogin+` LOGIN PASSWORD '`+reportsPassword+`'`); err != nil {
		return fmt.Errorf("give the reports' login its password: %w", err)
	}
	for _, p := range ports {
		if _, err := conn.Exec(ctx,
			`ALTER ROLE `+p.login()+` LOGIN PASSWORD '`+reportsPassword+`'; GRANT tarnwick_ports TO `+
				p.login()); err != nil {
			return fmt.Errorf("give %s its login: %w", p.name, err)
		}
	}
	tx, err := conn.Begin(ctx)
	if err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	defer func() { _ = tx.Rollback(ctx) }() // after a commit there is nothing to undo
	if _, err := tx.Exec(ctx, schema); err != nil {
		return fmt.Errorf("make the company's tables: %w", err)
	}
	for _, t := range generate(seed, today) {
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{t.name}, t.columns, pgx.CopyFromRows(t.rows)); err != nil {
			return fmt.Errorf("fill %s: %w", t.name, err)
		}
	}
	if _, err := tx.Exec(ctx, afterwards); err != nil {
		return fmt.Errorf("finish the company's tables: %w", err)
	}
	return tx.Commit(ctx)
}

// Ends tells the last day that the data holds; ok is false when there is none.
func Ends(ctx context.Context, conn *pgx.Conn, zone string) (day string, ok bool) {
	err := conn.QueryRow(ctx, `SELECT to_char(max(due) AT TIME ZONE $1, 'YYYY-MM-DD') FROM sailings`, zone).Scan(&day)
	return day, err == nil
}

type filling struct {
	name    string
	columns []string
	rows    [][]any
}

// generate makes the rows of all tables.
func generate(seed uint64, today time.Time) []filling {
	r := rand.New(rand.NewPCG(seed, 1)) //nolint:gosec // the same every time is the point
	portRows, staff := [][]any{}, [][]any{}
	for _, p := range ports {
		portRows = append(portRows, []any{p.code, p.name})
		staff = append(staff, []any{p.code, p.master, "port master", p.mail})
	}
	vesselRows, routeRows := [][]any{}, [][]any{}
	for i, v := range vessels {
		vesselRows = append(vesselRows, []any{i + 1, v.name, v.built, v.passengers, v.lane})
	}
	for i, rt := range routes {
		routeRows = append(routeRows,
			[]any{
				i + 1, ports[rt.from].name + " to " + ports[rt.to].name, ports[rt.from].code, ports[rt.to].code,
				rt.minutes,
			})
	}
	y, m, d := today.Date()
	start := time.Date(y, m, d-Days, 0, 0, 0, 0, today.Location())
	sea := weather(r, start)
	sailings, loads, fuel := voyages(r, start, sea)
	crew, duty := crews(r, start)
	inspections, defects := upkeep(r, start)
	return []filling{
		{"ports", []string{"code", "name"}, portRows},
		{"port_staff", []string{"port", "name", "post", "mail"}, staff},
		{"vessels", []string{"id", "name", "built", "passengers", "lane_metres"}, vesselRows},
		{"routes", []string{"id", "name", "from_port", "to_port", "minutes"}, routeRows},
		{"weather", []string{"at", "wind_knots", "wave_metres", "gauge_metres"}, sea},
		{"sailings", []string{"id", "route_id", "vessel_id", "due", "left_at", "arrived_at", "cancelled"}, sailings},
		{"loads", []string{"sailing_id", "passengers", "cars", "freight_metres"}, loads},
		{"fuel", []string{"sailing_id", "litres"}, fuel},
		{"crew", []string{"id", "name", "rank", "vessel_id"}, crew},
		{"crew_duty", []string{"crew_id", "day", "began", "ended", "rest_hours"}, duty},
		{"inspections", []string{"id", "vessel_id", "day", "inspector", "passed"}, inspections},
		{"defects", []string{"id", "vessel_id", "found", "closed", "critical", "what"}, defects},
	}
}

// The programs that are told of what happens here.
var subscriptions = map[string]job.SubscriptionDefinition{
	"Duty office": {
		Note:        "The screen in the duty office, which shows what did not arrive.",
		Destination: "Duty screen", Types: []string{job.PublishedDelivery, job.PublishedAlertOpened, job.PublishedAlertClosed},
	},
}

// The programs that tell of what happened.
var senders = map[string]job.SenderDefinition{
	"Ledger office": {
		Note:  "The office's own program, which says when a month is closed.",
		Sends: []job.EventGrant{{Source: "/ledger-office", Type: "example.tarnwick.ledger.*"}},
	},
	"Tide gauges": {
		Note: "The gauges of the five ports; they know nothing of CloudEvents, and sign what they post.",
		Sends: []job.EventGrant{
			{Source: "/gauges", Type: "example.tarnwick.tide.*"}, {Source: "/gauges", Type: "example.tarnwick.gauge.silent"},
		},
		Type: "example.tarnwick.tide.read", Pace: 600,
	},
}
