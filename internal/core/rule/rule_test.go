package rule

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

var sign = regexp.MustCompile(`#[0-9]+|ISLE-[0-9]+`)

// commit is one with a message and files, such as "Warn of ice | pier.bin 3000".
func commit(text string) Commit {
	message, file, _ := strings.Cut(text, " | ")
	c := Commit{Message: message, Email: "runa@skerry.example", Merge: strings.HasPrefix(message, "Merge"),
		Task: sign.MatchString(message), Files: map[string]int64{}}
	if name, size, ok := strings.Cut(file, " "); ok {
		for range len(size) { // a digit a kilobyte keeps the table short
			c.Files[name] += 1 << 10
		}
	}
	return c
}

func commits(text string) (out []Commit) {
	for one := range strings.SplitSeq(text, "; ") {
		out = append(out, commit(one))
	}
	return out
}

// Each row: the server's words, the refused commits, and the rules that are learned.
func TestLearn(t *testing.T) {
	for _, c := range []struct {
		words, refused string
		want           []Rule
	}{
		{"pier.bin is larger than 1 kB.", "ice | pier.bin 333", []Rule{{Kind: Size, Bytes: 1024, Each: true}}},
		{"File pier.bin is 3.00 KiB; this exceeds the limit of 2.00 KiB", "ice | pier.bin 333; fog",
			[]Rule{{Kind: Size, Bytes: 2048, Each: true}}},
		{"limit 1,5 kb, got 3072 bytes", "ice | pier.bin 333", []Rule{{Kind: Size, Bytes: 1536, Each: true}}},
		{"pier.bin is larger than 100 MB.", "ice | pier.bin 333", nil}, // no file is
		{"The message must match '^#[0-9]+ .*'", "Warn of ice", []Rule{{Kind: Pattern, Text: "^#[0-9]+ .*"}}},
		{"does not follow the pattern: ^ISLE-[0-9]+: ", "ISLE-1: ice; fog",
			[]Rule{{Kind: Pattern, Text: "^ISLE-[0-9]+:", Each: true}}},
		{"required format /^[A-Z]/ in a task's message", "warn of ice", []Rule{{Kind: Pattern, Text: "^[A-Z]"}}},
		{"must match '^Warn'", "Warn of ice", nil}, // it does
		{"must match '(?<bad'", "Warn of ice", nil},
		{"The message must name a task, such as #12.", "Warn of ice; Warn of fog", []Rule{{Kind: Task}}},
		{"The message must name a task.", "Warn of ice #1; Warn of fog", []Rule{{Kind: Task, Each: true}}},
		{"No ISLE-1 in the message", "Warn of ice", []Rule{{Kind: Task}}},
		{"The message must name a task.", "#1 ice; Merge main into ice", nil},
		{"Signed-off-by is missing", "Warn of ice\n\nSigned-off-by: Runa; fog",
			[]Rule{{Kind: SignOff, Each: true}}},
		{"You must sign off the commits", "Warn of ice", []Rule{{Kind: SignOff}}},
		{"The author's address must end with @crew.example", "Warn of ice",
			[]Rule{{Kind: Author, Text: "@crew.example"}}},
		{"runa@skerry.example may not push here", "Warn of ice", nil},
		{"No pushes on Fridays.", "Warn of ice", nil},
		{"", "Warn of ice", nil},
	} {
		assert.Equal(t, c.want, Learn([]string{c.words}, commits(c.refused), sign.MatchString), c.words)
	}
}

func TestBroken(t *testing.T) {
	for _, c := range []struct {
		rule    Rule
		commits string
		want    []int
		says    string
	}{
		{Rule{Kind: Size, Bytes: 1 << 10, Each: true}, "ice; fog | pier.bin 22; snow | pier.bin 1", []int{1},
			"no file over 1 kB"},
		{Rule{Kind: Task}, "ice; fog", []int{0, 1}, "a task in the message"},
		{Rule{Kind: Task}, "ice #1; fog", nil, "a task in the message"}, // one may be enough
		{Rule{Kind: Task, Each: true}, "ice #1; fog; Merge main", []int{1}, "a task in the message"},
		{Rule{Kind: Pattern, Text: "^A", Each: true}, "Ice; And fog; Ice\nAnd", []int{0}, "messages that match ^A"},
		{Rule{Kind: Pattern, Text: "("}, "Ice", nil, "messages that match ("}, // a damaged record refuses nothing
		{Rule{Kind: SignOff, Each: true}, "ice\n\nsigned-off-by: Runa; fog", []int{1},
			"a line Signed-off-by in the message"},
		{Rule{Kind: Author, Text: "@Skerry.example"}, "ice", nil,
			"an author's address that ends with @Skerry.example"},
		{Rule{Kind: "later"}, "ice", nil, "something that is not known here"},
	} {
		assert.Equal(t, c.want, c.rule.Broken(commits(c.commits)), "%v %s", c.rule, c.commits)
		assert.Equal(t, c.says, c.rule.String())
	}
	r := Rule{Kind: Size, Bytes: 1 << 10}
	assert.Equal(t, "a", r.Beyond(Commit{Files: map[string]int64{"b": 2000, "a": 2000, "c": 1025}}))
	assert.Equal(t, "", r.Beyond(Commit{Files: map[string]int64{"c": 1024}}))
	for n, want := range map[int64]string{1: "1 bytes", 1023: "1023 bytes", 1536: "1.5 kB", 100 << 20: "100 MB",
		5 << 40: "5 TB"} {
		assert.Equal(t, want, bytes(n))
	}
}

// Whatever a server says, learning from it and going by it ends.
func FuzzLearn(f *testing.F) {
	for _, s := range []string{"match '^a'", "limit 1.5 GiB", "@a.b", "pattern: ^((a+)+)+$"} {
		f.Add(s, "a message")
	}
	f.Fuzz(func(t *testing.T, words, message string) {
		list := []Commit{{Message: message, Email: words, Files: map[string]int64{message: int64(len(words))}}}
		for _, r := range Learn([]string{words}, list, sign.MatchString) {
			assert.NotEmpty(t, r.Broken(list), "the refused commits break what is learned from them")
			assert.NotEmpty(t, r.String())
		}
	})
}
