package demo

// Vigdis joins the crew in the longer scene.
var Vigdis = Person{"Vigdis Aune", "vigdis@skerry.example"}

// yoursLonger follows yours in the longer scene, so that the mend for berths belongs into the middle of the road.
var yoursLonger = []step{
	{Runa, 60*48 + 200, "List the sailings of a harbour", []change{
		{"timetable/board.go", "", `package timetable

// Board is the sailings from a harbour, in the order they leave.
func Board(from string, all []Sailing) (out []Sailing) {
	for _, s := range all {
		if s.From == from {
			out = append(out, s)
		}
	}
	return out
}
`},
	}},
	{Runa, 60*48 + 215, "Print the fare on the foot ticket", []change{
		{"fares/ticket.go", "", `package fares

import "fmt"

// FootTicket is what is printed for a passenger without a vehicle.
func FootTicket(from string, band Band) string {
	return fmt.Sprintf("%s, on foot: %d cents", from, FootFare(band))
}
`},
	}},
	{Runa, 60*48 + 230, "Say when the ramp is closed", []change{
		{"notices/ramp.txt", "", "NOTICE\n\nThe ramp is closed for ten minutes after each sailing.\n"},
	}},
	{Runa, 60*48 + 245, "Leave out on the board what cannot berth", []change{
		{"timetable/board.go", "if s.From == from {", "if s.From == from && s.CanBerth() {"},
		{"timetable/board.go", "// Board is the sailings from a harbour, in the order they leave.",
			"// Board is the sailings from a harbour that can berth there, in the order they leave."},
	}},
}

// theirsLonger follows theirs in the longer scene.
var theirsLonger = []step{
	{Vigdis, 60*48 + 160, "Children travel for half", []change{
		{"fares/fares.go", "// FootFare is what a passenger without a vehicle pays.\nfunc FootFare(band Band) " +
			"Cents {\n" +
			"\treturn band.Foot\n}",
			"// FootFare is what a passenger without a vehicle pays.\nfunc FootFare(band Band, child bool) Cents {\n" +
				"\tif child {\n\t\treturn band.Foot / 2\n\t}\n\treturn band.Foot\n}"},
		{"fares/family.go", "", `package fares

// FamilyFare is what two grown-ups pay with so many children.
func FamilyFare(band Band, children int) Cents {
	return 2*FootFare(band, false) + Cents(children)*FootFare(band, true)
}
`},
	}},
	{Mato, 60*48 + 165, "Tell how to find the pier at Holm", []change{
		{"notices/holm.txt", "", "NOTICE\n\nThe pier at Holm is behind the smokehouse.\n"},
	}},
	{Ilka, 60*48 + 170, "Summer timetable", []change{
		{"timetable/summer.go", "", `package timetable

// Summer is the timetable from April to September.
func Summer() []Sailing {
	tern := Ship{Name: "Tern", Draught: 1.6}
	skua := Ship{Name: "Skua", Draught: 1.9}
	return []Sailing{
		{Ship: tern, From: "Brae", Departs: 390},
		{Ship: skua, From: "Holm", Departs: 420},
		{Ship: tern, From: "Eid", Departs: 475},
	}
}
`},
	}},
	{Vigdis, 60*48 + 175, "Families of six pay for five", []change{
		{"fares/family.go", "func FamilyFare(band Band, children int) Cents {\n",
			"func FamilyFare(band Band, children int) Cents {\n\tchildren = min(children, 3)\n"},
	}},
	{Ilka, 60*48 + 180, "Test the summer timetable", []change{
		{"timetable/summer_test.go", "", `package timetable

import "testing"

func TestSummerBeginsEarly(t *testing.T) {
	if Summer()[0].Departs >= Winter()[0].Departs {
		t.Fatal("the first summer sailing is no earlier")
	}
}
`},
	}},
	{Mato, 60*48 + 185, "Holm has a bench", []change{
		{"notices/holm.txt", "behind the smokehouse.", "behind the smokehouse. There is a bench."},
	}},
	{Vigdis, 60*48 + 190, "Test the family fare", []change{
		{"fares/family_test.go", "", `package fares

import "testing"

func TestChildrenPayHalf(t *testing.T) {
	if got, want := FamilyFare(Bands[0], 2), 3*FootFare(Bands[0], false); got != want {
		t.Fatalf("got %d, want %d", got, want)
	}
}
`},
	}},
	{Mato, 60*48 + 195, "Say in the README that summer is in", []change{
		{"README.md", "summer and winter.", "summer and winter, for grown-ups and children."},
	}},
}
