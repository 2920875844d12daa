package misfit

import (
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/object"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestGivens tries each row of the table: a line that gives a name, one that uses it, and one that only looks so.
func TestGivens(t *testing.T) {
	rows := []struct{ gives, name, uses, not string }{
		{`  TIDE_URL: http://tides`, "TIDE_URL", `os.environ["TIDE_URL"]`, `os.environ.get("TIDE_URL", "none")`},
		{`  "quietHours": 8,`, "quietHours", `settings["quietHours"]`, `the quietHours of a day`},
		{`ferry.tide=1`, "ferry.tide", `get("ferry.tide")`, `get("ferry.tides")`},
		{`[tides]`, "tides", `c["tides"]`, `c.tides`},
		{`  "board.late": "late"`, "board.late", `t('board.late')`, `board.late`},
		{`.trip-row { color: navy }`, "trip-row", `<li class="trip-row late">`, `<li class="trip-rows">`},
		{`<p id="tides">`, "tides", `getElementById("tides")`, `getElementById("tides-low")`},
		{`<p data-testid="row">`, "row", `getByTestId("row")`, `row()`},
		{`app.get("/tides", f)`, "/tides", `fetch("/tides")`, `fetch("https://skerry.example/tides/1")`},
		{`path("t/", v, name="tides")`, "tides", `{% url 'tides' %}`, `{% tides %}`},
		{`PORT = 8080`, "8080", `curl localhost:8080/`, `width = 8080`},
		{`p.add_argument("--season")`, "--season", `tools/gen.py --season winter`, `book --season winter`},
		{`t := flag.String("tides", "", "")`, "tides", `gen -tides local`, `gen -tides-low local`},
		{`tables: data`, "tables", `make -C sub tables`, `make a table`},
		{`"lint:all": "eslint ."`, "lint:all", `npm run lint:all`, `npm run lint`},
		{`depart_at text NOT NULL`, "depart_at", `"SELECT depart_at FROM trips"`, `depart_at = 4`},
		{`CREATE TABLE trips (`, "trips", `"DELETE FROM trips"`, `trips = []`},
		{`t.integer :pier_no`, "pier_no", `where(pier_no: 4)`, `pier_no()`},
		{`"@board/*": ["src/*"]`, "@board", `import { r } from "@board/row"`, `import { r } from "@boards/row"`},
		{`namespace Skerry.Tides;`, "Skerry.Tides", `using Skerry.Tides;`, `using Skerry.TidesTable;`},
		{`serial = []`, "serial", `#[cfg(feature = "serial")]`, `serial()`},
		{`bus.emit("trip:late", 1)`, "trip:late", `bus.on("trip:late", f)`, `bus.on("trip:later", f)`},
		{`raise NoPier(name)`, "NoPier", `except piers.NoPier:`, `except NoPiers:`},
		{`variable "piers" {`, "piers", `n = var.piers`, `n = local.piers`},
		{`module "piers" {`, "piers", `n = module.piers.n`, `n = var.piers`},
		{`output "piers" {`, "piers", `n = module.a.piers`, `n = a.piers`},
		{`resource "dock" "main" {`, "main", `d = aws_dock.main.id`, `d = main`},
		{`  piers = 4`, "piers", `n = local.piers`, `n = var.piers`},
		{`  name: skerry-web`, "skerry-web", `- configMapRef: { name: skerry-web }`, `# skerry-web`},
		{`  tides:`, "tides", `depends_on: [tides]`, `image: tides`},
		{`  build:`, "build", `needs: [build]`, `run: build`},
		{`  departAt: String!`, "departAt", "`{ trips { departAt } }`", `departAt = 1`},
		{`  string pier_name = 2;`, "pier_name", `trip.pier_name`, `pier_name = 1`},
	}
	require.Len(t, rows, len(givens), "a row of the table is not tried")
	for i, row := range rows {
		g := &givens[i]
		assert.Equal(t, []string{row.name}, g.names(row.gives), "%s: %s", g.what, row.gives)
		w := withdrawn{given: g, name: row.name, by: &file{path: "tools/gen.py"}}
		assert.True(t, w.usage().in(row.uses), "%s: %s", g.what, row.uses)
		assert.False(t, w.usage().in(row.not), "%s: %s", g.what, row.not)
	}
}

// TestUniques tries each row of the table: two lines that give one name, and one that gives another.
func TestUniques(t *testing.T) {
	rows := []struct{ one, same, other string }{
		{`	LATE = 7,`, `	SUNK = 7,`, `	SUNK = 8,`},
		{`int32 a = 5;`, `string b = 5;`, `string b = 6;`},
		{`{"id": 31, "a": 1}`, `{"id": 31, "b": 1}`, `{"id": 32}`},
		{`204,Lunn`, `204,Brae`, `205,Brae`},
		{`<p id="a">`, `<div id="a">`, `<div id="b">`},
		{`  "late": 5,`, `  "late": 6,`, `  "later": 6,`},
		{`all: a`, `all: b`, `each: b`},
		{`@app.route("/a")`, `@app.route("/a")`, `@app.route("/b")`},
		{`@command("a")`, `@cli.command("a")`, `@command("b")`},
		{`PORT = 7001`, `port: 7001`, `PORT = 7002`},
		{`ports: ["7001:80"]`, `- "7001:81"`, `- "7002:80"`},
		{`NO_TIDE = "E104"`, `NO_CREW = "E104"`, `NO_CREW = "E105"`},
		{`down_revision = "4f"`, `down_revision = '4f'`, `down_revision = "5f"`},
		{`@keyframes a {`, `@keyframes a{`, `@keyframes b {`},
		{`int low(int a) {`, `char *low(char *s) {`, `static int low(int a) {`},
		{`class A {`, `public class A {`, `class B {`},
		{`CREATE TABLE a (`, `create table a (`, `CREATE TABLE b (`},
		{`variable "a" {`, `variable "a" {`, `variable "b" {`},
		{`type A {`, `enum A {`, `type B {`},
	}
	require.Len(t, rows, len(uniques), "a row of the table is not tried")
	for i, row := range rows {
		u := &uniques[i]
		key, name := u.key(row.one)
		same, _ := u.key(row.same)
		other, _ := u.key(row.other)
		assert.NotEmpty(t, name, "%s: %s", u.what, row.one)
		assert.Equal(t, key, same, "%s: %s", u.what, row.same)
		assert.NotEqual(t, key, other, "%s: %s", u.what, row.other)
	}
}

// TestPackedCodeIsPassedOver: and told.
func TestPackedCodeIsPassedOver(t *testing.T) {
	long := strings.Repeat("a.b;", mostLine/4+1) + "\n"
	o := object.NewOverlay(object.SHA1, nil)
	c := corpusCase{tree: map[string]map[string]string{"base": {"a.js": "function fare() {}\n", "b.js": "\n"},
		"yours":  {"a.js": "function price() {}\n" + long},
		"theirs": {"b.js": "import { fare } from './a.js';\nfare();\n"}}}
	trees := c.trees(t, o)
	s, err := Read(t.Context(), o, trees.Base, trees.Yours, trees.Theirs)
	require.NoError(t, err)
	found, err := s.Find(t.Context(), trees.Joined)
	require.NoError(t, err)
	assert.Empty(t, found)
	assert.Equal(t, []string{"a.js"}, s.Skipped())
}
