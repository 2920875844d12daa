package demo

import (
	"context"
	_ "embed"
	"fmt"
	"strings"

	"golang.org/x/tools/txtar"

	"dorvik.dev/dorvik/internal/core/object"
)

//go:embed skerry.txtar
var skerry []byte

// Person is a member of the invented crew.
type Person struct{ Name, Email string }

// The crew of skerry. You are Runa.
var (
	Runa = Person{"Runa Holt", "runa@skerry.example"}
	Ilka = Person{"Ilka Renn", "ilka@skerry.example"}
	Mato = Person{"Mato Veld", "mato@skerry.example"}
)

// change replaces a text in a file. An empty old creates the file or appends to it.
type change struct{ path, old, new string }

type step struct {
	who     Person
	minute  int64 // minutes since the start of the story
	message string
	changes []change
}

// pier is a picture of one dot, and of another colour after Mato's change.
const (
	pier = "\x89PNG\r\n\x1a\n" +
		"\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x02\x00\x00\x00\x90wS\xde\x00\x00\x00\x0cI" +
		"DATx\x9cc\xf8\xcf\xc0\x00\x00\x03\x01\x01\x00\xc9\xfe\x92\xef\x00\x00\x00\x00IEND\xaeB`\x82"
	newPier = "\x89PNG\r\n\x1a\n" +
		"\x00\x00\x00\rIHDR\x00\x00\x00\x01\x00\x00\x00\x01\x08\x02\x00\x00\x00\x90wS\xde\x00\x00\x00\x0cI" +
		"DATx\x9cc`\xf8\xff\x1f\x00\x03\x03\x01\xff\xe7y\xd8\xb8\x00\x00\x00\x00IEND\xaeB`\x82"
)

var shared = []step{
	{Ilka, 0, "Tide window per pier", nil},
	{Mato, 60 * 24, "Winter timetable", []change{
		{"assets/pier.png", "", pier},
		{"README.md", "island ferries.", "island ferries, summer and winter."},
	}},
}

var yours = []step{
	{Runa, 60*48 + 5, "Fix typo in pier notice", []change{
		{"notices/pier.txt", "yelow", "yellow"},
	}},
	{Runa, 60*48 + 65, "Charge vehicles by the half metre\n\nA van of 4.20 m should not pay for five metres.", []change{
		{"fares/fares.go", "\tName     string\n\tPerMetre Cents\n\tFoot     Cents",
			"\tName         string\n\tPerHalfMetre Cents\n\tFoot         Cents"},
		{"fares/fares.go", `"near", PerMetre: 120`, `"near", PerHalfMetre: 60`},
		{"fares/fares.go", `"middle", PerMetre: 180`, `"middle", PerHalfMetre: 90`},
		{"fares/fares.go", `"far", PerMetre: 260`, `"far", PerHalfMetre: 130`},
		{"fares/fares.go", "// Metres is the length in metres, rounded up.\nfunc (v Vehicle) Metres() Cents {\n" +
			"\treturn Cents((v.Centimetres + 99) / 100)",
			"// HalfMetres is the length in half metres, rounded up.\nfunc (v Vehicle) HalfMetres() Cents {\n" +
				"\treturn Cents((v.Centimetres + 49) / 50)"},
		{"fares/fares.go", "rate := band.PerMetre\n", "rate := band.PerHalfMetre\n"},
		{"fares/fares.go", "rate * v.Metres()", "rate * v.HalfMetres()"},
	}},
	{Runa, 60*48 + 135, "Add Ness to the harbour list", []change{
		{"docs/harbours.md", "- Lunna, pier and slip, all vehicles\n",
			"- Lunna, pier and slip, all vehicles\n- Ness, slip only, foot passengers and bicycles\n"},
		{"routes.json", "\"minutes\": 55}\n",
			"\"minutes\": 55},\n    {\"from\": \"Lunna\", \"to\": \"Ness\", \"minutes\": 35}\n"},
	}},
	{Runa, 60*48 + 180, "Print the berth on the ticket", []change{
		{"timetable/sailing.go", "", `
// CanBerth reports whether the ship floats at the pier when it sails.
func (s Sailing) CanBerth() bool {
	need := s.Ship.Draught + Clearance
	return DepthAt(s.From, s.Departs) >= need
}

// Berth is what the ticket says of the pier.
func (s Sailing) Berth() string {
	if s.CanBerth() {
		return s.From + ", at the pier"
	}
	return s.From + ", by tender"
}
`},
		{"timetable/sailing_test.go", "", `package timetable

import "testing"

func TestEverySailingHasABerth(t *testing.T) {
	for _, s := range Winter() {
		if s.Berth() == "" {
			t.Errorf("%v has no berth", s)
		}
	}
}
`},
	}},
}

var theirs = []step{
	{Mato, 60*48 + 50, "Fix typo in pier notice", []change{
		{"notices/pier.txt", "yelow", "yellow"},
	}},
	{Mato, 60*48 + 70, "Add Holm to the harbour list", []change{
		{"docs/harbours.md", "- Lunna, pier and slip, all vehicles\n",
			"- Lunna, pier and slip, all vehicles\n- Holm, pier, all vehicles, April to September\n"},
		{"assets/pier.png", pier, newPier},
		{"routes.json", "\"name\": \"Eider\", \"cars\": 32}\n",
			"\"name\": \"Eider\", \"cars\": 32},\n    {\"name\": \"Skua\", \"cars\": 24}\n"},
	}},
	{Ilka, 60*48 + 130, "Rename DepthAt to DepthAtPier", []change{
		{"timetable/tide.go", "// DepthAt is", "// DepthAtPier is"},
		{"timetable/tide.go", "func DepthAt(", "func DepthAtPier("},
		{"timetable/tide.go", "low := DepthAt(", "low := DepthAtPier("},
		{"timetable/tide.go", "min(low, DepthAt(", "min(low, DepthAtPier("},
	}},
	{Ilka, 60*48 + 150, "Round fares up to ten cents", []change{
		{"fares/fares.go", "return rate * v.Metres()", "return roundUp(rate*v.Metres(), 10)"},
		{"fares/fares.go", "// Band is a zone", `// roundUp is the next multiple of step.
func roundUp(c, step Cents) Cents {
	return (c + step - 1) / step * step
}

// Band is a zone`},
		{"fares/bands.csv", "far,260,650\n", "far,260,650\nouter,340,900\n"},
	}},
}

// tasks is the crew's list of tasks.
const tasks = `SKERRY-31 Print the berth on the ticket
SKERRY-34 Ness has a slip now
SKERRY-35 Vans pay by the half metre
SKERRY-38 Warn of ice on the slip
SKERRY-40 The board shows cancelled sailings
SKERRY-41 Bicycles travel free in March
`

// start is the beginning of the story: 2 March 2026, 08:00 UTC.
const start = 1772438400

// line makes commits on top of a parent and returns their ids.
func line(o *object.Overlay, parent object.ID, steps []step) ([]object.ID, error) {
	var tree object.ID
	if !parent.IsZero() {
		c, err := o.Commit(context.Background(), parent)
		if err != nil {
			return nil, err
		}
		tree = c.Tree
	}
	var ids []object.ID
	for _, s := range steps {
		set := map[string]object.Entry{}
		if tree.IsZero() {
			for _, f := range txtar.Parse(skerry).Files {
				set[f.Name] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, f.Data)}
			}
		}
		for _, ch := range s.changes {
			e, ok := set[ch.path]
			if !ok {
				var err error
				if e, err = o.Find(context.Background(), tree, ch.path); err != nil {
					return nil, err
				}
			}
			text := ""
			if !e.Absent() {
				data, err := o.Blob(context.Background(), e.ID)
				if err != nil {
					return nil, err
				}
				text = string(data)
			}
			if strings.Count(text, ch.old) != 1 && ch.old != "" {
				return nil, fmt.Errorf("the demo's commit %q does not fit %s", s.message, ch.path)
			}
			if ch.old == "" {
				text += ch.new
			} else {
				text = strings.Replace(text, ch.old, ch.new, 1)
			}
			set[ch.path] = object.Entry{Mode: object.ModeFile, ID: o.Put(object.KindBlob, []byte(text))}
		}
		var err error
		if tree, err = o.Edit(context.Background(), tree, set); err != nil {
			return nil, err
		}
		sig := object.Signature{Name: s.who.Name, Email: s.who.Email, When: start + 60*s.minute, Zone: "+0000"}
		c := &object.Commit{Tree: tree, AuthorLine: sig.String(), Committer: sig, Message: s.message + "\n"}
		if !parent.IsZero() {
			c.Parents = []object.ID{parent}
		}
		parent = o.PutCommit(c)
		ids = append(ids, parent)
	}
	return ids, nil
}

// uncommitted is your work in progress when the push was rejected.
var uncommitted = change{"cmd/skerry/main.go", "\t\tfmt.Println(s)\n",
	"\t\t// The office wants the berth too.\n\t\t// Ask Ilka whether it fits on the\n\t\t// board at Eid.\n" +
		"\t\tfmt.Println(s)\n"}
