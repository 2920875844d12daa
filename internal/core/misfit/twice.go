package misfit

import (
	"context"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// scope is where a name may be given only once.
type scope int

const (
	anywhere scope = iota
	inFolder
	inFile
	inBlock // among the lines of one enclosing line
)

// unique is a kind of names and numbers that may be given only once. A row is all that is known of a kind; a test
// walks the rows.
type unique struct {
	what   string // as a person calls it, before the name
	in     []*lang.Language
	gives  *rx.Expr // matches a line that gives one; the last group is the name, and all together tell it from others
	within scope
	under  *rx.Expr // what the enclosing line matches; nil for any
}

// uniques is the table of them.
var uniques = []unique{
	{"value", []*lang.Language{lang.C, lang.CPlusPlus, lang.TypeScript, lang.TSX, lang.CSharp, lang.Rust, lang.Python,
		lang.Swift, lang.Go, lang.PHP}, rx.New(`^\s*(?:case )?[A-Za-z_]\w*\s*=\s*(-?\d+|0x[0-9a-fA-F]+)\s*,?\s*(` +
		`?://.*)?$`),
		inBlock, rx.New(`\b(?:enum|Enum|IntEnum|Flag)\b|^const \($`)},
	{"field number", []*lang.Language{lang.Proto}, rx.New(`=\s*(\d+)\s*[;\[]`), inBlock, nil},
	{"id", []*lang.Language{lang.JSON, lang.YAML, lang.JavaScript, lang.TypeScript, lang.TOML},
		rx.New(`^\W*["']?\bid["']?\s*[:=]\s*["']?([\w-]+)`), inBlock, nil},
	{"id", []*lang.Language{lang.CSV}, rx.New(`^"?([\w-]+)"?[,;\t]`), inFile, nil},
	{"id", []*lang.Language{lang.HTML, lang.Pages}, rx.New(`\sid=["']([\w-]+)["']`), inFile, nil},
	{"key", []*lang.Language{lang.JSON, lang.YAML, lang.TOML, lang.INI, lang.Properties, lang.Env},
		rx.New(`^\s*["']?([A-Za-z_][\w./-]*)["']?\s*[:=](?:\s|$|\S)`), inBlock, nil},
	{"target", []*lang.Language{lang.Make}, rx.New(`^(\w[\w.-]*)\s*:(?:[^=:]|$)`), inFile, nil},
	{"path", []*lang.Language{lang.Python, lang.JavaScript, lang.TypeScript, lang.Ruby, lang.PHP, lang.Go},
		rx.New(`^\s*@?(?:app|http|server|mux|api)\.(route|get|post|put|delete|patch|HandleFunc|Handle)\(["'](/` +
			`[^"']+)["']`),
		anywhere, nil},
	{"command", []*lang.Language{lang.Python, lang.JavaScript, lang.TypeScript, lang.Ruby, lang.PHP},
		rx.New(`(?:@(?:\w+\.)?command|\.add_parser|\.add_command|\.registerCommand)\(["']([\w:-]+)["']`), inFolder,
		nil},
	{"port", nil, rx.New(`(?i)\bport["']?\s*(?:int\s*)?[:=]{1,2}\s*["']?(\d{4,5})\b`), anywhere, nil},
	{"port", []*lang.Language{lang.YAML}, rx.New(`["'\s](?:[\d.]+:)?(\d{2,5}):\d{2,5}["'\]\s]`), anywhere, nil},
	{"error code", inCode, rx.New(`^\s*(?:\w+ )*[A-Z]\w*\s*(?::=|[:=(]).*["']([A-Z]{1,6}-?\d{2,6})["']`), anywhere,
		nil},
	{"revision before", []*lang.Language{lang.Python}, rx.New(`^down_revision\s*(?::[^=]+)?=\s*["'](\w+)["']`),
		inFolder,
		nil},
	{"animation", []*lang.Language{lang.CSS, lang.Less}, rx.New(`@keyframes\s+([\w-]+)`), anywhere, nil},
	{"function", []*lang.Language{lang.C}, rx.New(`^(?:unsigned |const |struct |long )*\w+[\s*]+(\w+)\s*\([^;=]*` +
		`\{?\s*$`),
		anywhere, nil},
	{"class", []*lang.Language{lang.Java, lang.Kotlin}, rx.New(`^(?:public |final |abstract |sealed |data |open )*` +
		`(?:class|interface|enum|enum class|record|object)\s+(\w+)`), inFolder, nil},
	{"definition", []*lang.Language{lang.SQL}, rx.New(`(?i)^\s*create\s+(?:unique\s+)?(?:table|index|view|type|t` +
		`rigger)\s+` +
		`(\w+)`), anywhere, nil},
	{"block", []*lang.Language{lang.HCL}, rx.New(`^(?:resource "\w+"|data "\w+"|variable|output|module) "(\w+)"`),
		inFolder,
		nil},
	{"type", []*lang.Language{lang.GraphQL, lang.Proto}, rx.New(`^(?:type|message|enum|input|service|union|scala` +
		`r)\s+(\w+)`),
		inFolder, nil},
}

// notTwice are names of functions that each program has.
var notTwice = []string{"main", "setup", "loop"}

// handed is a name that a side gives in a new line.
type handed struct {
	by   *file
	line int    // from 0
	id   string // what tells it from others
	name string // for a person
}

// twice finds the names and numbers that both sides gave to different things.
func (f *finder) twice(ctx context.Context) (out []Misfit, err error) {
	for i := range uniques {
		u := &uniques[i]
		mine := f.handed(u, merge.Yours)
		if len(mine) == 0 {
			continue
		}
		theirs := f.handed(u, merge.Theirs)
		for where, y := range mine {
			t, both := theirs[where]
			if !both || ctx.Err() != nil {
				continue
			}
			is, err := f.collide(ctx, u, y, t)
			if err != nil {
				return nil, err
			}
			if is {
				out = append(out, Misfit{Kind: Duplicate, What: u.what, Name: y.name,
					Changed: t.by.place(merge.Theirs, t.line, false), Used: y.by.place(merge.Yours, y.line, false)})
			}
		}
	}
	return append(out, f.numbered()...), ctx.Err()
}

// handed returns what new lines of a side give, by what may not be given again: its text and where it may not.
func (f *finder) handed(u *unique, side merge.Side) map[string]handed {
	out := map[string]handed{}
	for _, one := range f.sides[index(side)] {
		if (u.within == inFile || u.within == inBlock) && f.of(side.Other(), one.path) == nil {
			continue // nothing of the other side can collide with it
		}
		l := lang.Of(one.path)
		if u.in != nil && !slices.Contains(u.in, l) || u.in == nil && (!l.IsKnown() || l.Is(lang.Prose)) ||
			tested.MatchString(one.path) && u.within == anywhere || writtenElsewhere(one.path) {
			continue
		}
		for _, i := range one.added() {
			id, name := u.key(one.to[i])
			h := handed{one, i, id, name}
			if name == "" || slices.Contains(notTwice, name) || len(u.given(one.from, h)) > 0 {
				continue
			}
			where := id
			switch u.within {
			case inFolder:
				where = path.Dir(one.path) + "\x00" + id
			case inFile, inBlock:
				where = one.path + "\x00" + id
			}
			if _, again := out[where]; !again {
				out[where] = h
			}
		}
	}
	return out
}

// tested matches the paths of tests, which use names and give none.
var tested = rx.New(`(?i)(^|[/_.-])(tests?|spec|fixtures?)([/_.-]|$)`)

// key returns what a line gives: what tells it from others, such as the verb and the path, and the name alone.
func (u *unique) key(line string) (id, name string) {
	m := u.gives.FindStringSubmatch(strings.TrimRight(line, "\r\n"))
	if m == nil {
		return "", ""
	}
	return strings.Join(m[1:], " "), m[len(m)-1]
}

// given lists the lines, from 0, that give what a side handed out.
func (u *unique) given(lines []string, h handed) (out []int) {
	for i, l := range lines {
		if !strings.Contains(l, h.name) {
			continue
		}
		if id, _ := u.key(l); id == h.id {
			out = append(out, i)
		}
	}
	return out
}

// collide reports whether two names that are alike are given twice in the joined tree, where one may be.
func (f *finder) collide(ctx context.Context, u *unique, y, t handed) (bool, error) {
	if y.by.path != t.by.path {
		for _, h := range []handed{y, t} {
			if stands, err := f.stands(ctx, h.by.path, h.by.to[h.line]); err != nil || !stands {
				return false, err
			}
		}
		before, err := f.before(ctx, u, y)
		return !before, err
	}
	e, err := f.at(ctx, y.by.path)
	if err != nil {
		return false, err
	}
	text, err := f.text(ctx, e)
	if err != nil {
		return false, err
	}
	lines := diff.Lines(text)
	at := u.given(lines, y)
	if len(at) != 2 || u.within == inFile && !u.distinct(y.by.from) {
		return false, nil
	}
	first, second := enclosing(lines, at[0]), enclosing(lines, at[1])
	if u.within == inBlock && first != second {
		return false, nil
	}
	return u.under == nil || first >= 0 && u.under.MatchString(strings.TrimSpace(lines[first])), nil
}

// before reports whether the base gives a name already, so that it is not given once only.
func (f *finder) before(ctx context.Context, u *unique, h handed) (yes bool, err error) {
	return f.anyIn(ctx, f.trees.Base, func(p string) bool {
		return u.in == nil && lang.Of(p).IsKnown() || slices.Contains(u.in, lang.Of(p))
	}, func(_, text string) bool {
		return strings.Contains(text, h.name) && len(u.given(diff.Lines(text), h)) > 0
	})
}

// distinct reports whether lines give each name once.
func (u *unique) distinct(lines []string) bool {
	seen := map[string]bool{}
	for _, l := range lines {
		if _, name := u.key(l); name != "" {
			if seen[name] {
				return false
			}
			seen[name] = true
		}
	}
	return true
}

// enclosing returns the index of the line that encloses a line by its indentation, or by a bracket alone in its line
// the one that encloses that; -1 if there is none. Sections in square brackets enclose what follows.
func enclosing(lines []string, at int) int {
	in := indentation(lines[at])
	for i := at - 1; i >= 0; i-- {
		text := strings.TrimSpace(lines[i])
		switch {
		case text == "":
		case strings.HasPrefix(text, "[") && strings.HasSuffix(text, "]") && indentation(lines[i]) <= in:
			return i
		case indentation(lines[i]) >= in:
		case text == "{" || text == "-":
			in = indentation(lines[i])
		default:
			return i
		}
	}
	return -1
}

// numberedName matches the name of a file or directory that has its place in an order by its number.
var numberedName = rx.New(`^[vV]?(\d{2,6})(?:_|-|\.|__)[A-Za-z]`)

// years are numbers at which many things begin.
var years = rx.New(`^(19|20)\d\d$`)

// ordinals returns the numbers of a path's parts, each with the path to it.
func ordinals(p string) (out []string) {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		if m := numberedName.FindStringSubmatch(part); m != nil && !years.MatchString(m[1]) {
			out = append(out, path.Join(append(slices.Clone(parts[:i]), m[1])...))
		}
	}
	return out
}

// numbered finds new files and directories to which the sides gave one number, where others are numbered.
func (f *finder) numbered() (out []Misfit) {
	mine := map[string]*file{}
	for _, one := range f.sides[0] {
		for _, at := range ordinals(one.path) {
			if one.old.Absent() && mine[at] == nil {
				mine[at] = one
			}
		}
	}
	for _, t := range f.sides[1] {
		for _, at := range ordinals(t.path) {
			y := mine[at]
			if !t.old.Absent() || y == nil || part(y.path, at) == part(t.path, at) || path.Ext(y.path) != path.Ext(
				t.path) {
				continue
			}
			delete(mine, at)
			out = append(out, Misfit{Kind: Duplicate, What: "number", Name: path.Base(at),
				Changed: Place{Side: merge.Theirs, Path: t.path, Line: 1},
				Used:    Place{Side: merge.Yours, Path: y.path, Line: 1}})
		}
	}
	return out
}

// part returns the part of a path whose number has a path to it.
func part(p, number string) string {
	return strings.Split(p, "/")[strings.Count(number, "/")]
}
