package main

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheTable: what is reached, what is nearly, what is missed and what was not measured; the last two are an error.
func TestTheTable(t *testing.T) {
	var text strings.Builder
	fmt.Fprintln(&text, "goos: linux\npkg: x\nBenchmarkBroken-2 1")
	for _, r := range rows {
		fmt.Fprintf(&text, "Benchmark%s-2 \t 1\t 12 ns/op\t %g %s\n", r.name, r.asked*1.05, r.unit)
	}
	all := parse([]byte(text.String()))
	for _, r := range rows { // each line has one unit, and takes the place of the one before
		if all[r.name][r.unit] == 0 {
			all[r.name][r.unit] = r.asked
		}
	}
	var out bytes.Buffer
	require.NoError(t, table(&out, all), out.String())
	assert.Equal(t, 12.0, all["Look"]["ns/op"])
	all["Look"]["ms-lines"] = 111
	delete(all["Keys"], "%-idle")
	out.Reset()
	assert.ErrorContains(t, table(&out, all), "1 of "+fmt.Sprint(len(rows))+" are more than a tenth beyond what was "+
		"asked, and 1 were not measured")
	assert.Regexp(t, `to the two lines, ms +111 +100 +missed`, out.String())
	assert.Regexp(t, `while nothing moves, % +– +1.5 +not measured`, out.String())
}

// TestTheDrawing has every size with its time, and wants all of them.
func TestTheDrawing(t *testing.T) {
	var text strings.Builder
	for _, c := range []string{"files/1000", "files/10000", "files/100000", "commits/100", "commits/1000",
		"commits/10000",
		"lines/10000", "lines/100000", "lines/1000000", "conflicts/50", "conflicts/500"} {
		fmt.Fprintf(&text, "BenchmarkGrowth/%s-2 1 1 ns/op 0.25 s-dorvik\n", c)
	}
	file := filepath.Join(t.TempDir(), "growth.svg")
	assert.ErrorContains(t, drawGrowth(file, parse([]byte(text.String()))), "conflicts was not measured")
	text.WriteString("BenchmarkGrowth/conflicts/5000-2 1 1 ns/op 2.5 s-dorvik\n")
	require.NoError(t, drawGrowth(file, parse([]byte(text.String()))))
	svg, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, s := range []string{"How cost grows", "1,000,000", "250 ms", "2.5 s", "5,000"} {
		assert.True(t, strings.Contains(string(svg), s), s)
	}
}

// TestGrowth: each size and each time is written.
func TestGrowth(t *testing.T) {
	one := func(name string, seconds ...float64) curve {
		c := curve{name: name}
		for i, s := range seconds {
			c.points = append(c.points, point{int(1000 * math.Pow10(i)), s})
		}
		return c
	}
	svg := growth("How cost grows", "By size.", []curve{one("flat", 0.01, 0.01, 0.01),
		one("steep, <more>", 0.0012, 0.25, 90), one("one", 2)})
	for _, want := range []string{"1,000", "100,000", "10 ms", "1.2 ms", "250 ms", "90 s", "2 s", "steep",
		"&lt;more&gt;"} {
		assert.Contains(t, string(svg), ">"+want+"<")
	}
	require.NoError(t, xml.Unmarshal(svg, new(struct{})))
	assert.NotContains(t, string(svg), "NaN")
}
