package diagnose

import (
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestPlaces(t *testing.T) {
	files := map[string][]string{}
	for _, f := range []string{"timetable/sailing.go", "timetable/tide_test.go", "fares/fares_test.go",
		"a/x_test.go", "b/x_test.go", "src/main.c", "lib.py"} {
		files[path.Base(f)] = append(files[path.Base(f)], f)
	}
	for _, c := range []struct {
		name, output string
		want         []Place
	}{
		{"go build",
			"# skerry/timetable\ntimetable/sailing.go:58:17: undefined: DepthAt\ntimetable/sailing.go:61:21: " +
				"undefined: DepthAt",
			[]Place{{"timetable/sailing.go", 58, 17, "undefined: DepthAt"}, {"timetable/sailing.go", 61, 21,
				"undefined: DepthAt"}}},
		{"go vet", "vet: ./timetable/sailing.go:3:1: unreachable code", []Place{{"timetable/sailing.go", 3, 1,
			"unreachable code"}}},
		{"go test names no folder", "--- FAIL: TestX\n    tide_test.go:9: got 1\nFAIL\tskerry/timetable\t0.1s",
			[]Place{{"timetable/tide_test.go", 9, 0, "got 1"}}},
		{"two of one name, told apart by the package", "    x_test.go:4: no\nFAIL\tskerry/b\t0.1s\n    x_test.go:5: " +
			"no\nFAIL\tskerry/a\t0.1s",
			[]Place{{"b/x_test.go", 4, 0, "no"}, {"a/x_test.go", 5, 0, "no"}}},
		{"gcc", "src/main.c:3:5: error: unknown type\nsrc/main.c:4:1: warning: unused\nsrc/main.c:5:1: note: " +
			"here\nsrc/main.c:9:10: fatal error: x.h: none",
			[]Place{{"src/main.c", 3, 5, "unknown type"}, {"src/main.c", 9, 10, "x.h: none"}}},
		{"absolute paths", "/tmp/check/src/main.c:3:5: error: bad", []Place{{"src/main.c", 3, 5, "bad"}}},
		{"said twice", "src/main.c:3: bad\nsrc/main.c:3: bad", []Place{{"src/main.c", 3, 0, "bad"}}},
		{"not files of the project", "/usr/include/stdio.h:3:1: error: x\nhttp://host:80: no\n12:30:15: " +
			"started\nother/main.c:1:1: x", nil},
		{"no places", "ok  \tskerry/fares\t0.1s\nall well", nil},
	} {
		got := Places(strings.Split(c.output, "\n"), "/tmp/check", func(base string) []string { return files[base] })
		assert.Equal(t, c.want, got, c.name)
	}
}
