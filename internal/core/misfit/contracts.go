package misfit

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/rx"
)

// contract is something that a definition asks of those who use it, and that an edit can change while the name stays.
type contract struct {
	what string // what happened to it, as a person says it
	in   string // the families of languages that have it; empty for all
	// broken compares two forms. It returns nil if they ask for the same, or else which uses do not fit any more.
	broken func(was, is form) func(u use) bool
}

// contracts is the table of them. Go's compiler finds most of these; a few it does not.
var contracts = []contract{
	{"its parameters changed places", "python script java c rust ruby php go", changedPlaces},
	{"a parameter is given by its name now", "python ruby", byName},
	{"a parameter has another name now", "python ruby swift", otherNames},
	{"what it is made with changed", "python script java php ruby swift", otherConstruction},
	{"what a value of it needs changed", "script rust swift", otherFields},
	{"it is asynchronous now", "", asynchronous},
	{"it can fail with another error now", "java swift", throwing},
	{"its result can be nothing now", "python script java rust swift", emptied},
	{"its result is more than one value now", "python script rust", several},
	{"a parameter is of another kind now", "c rust java script python", otherKinds},
	{inAnotherUnit, "", otherUnit},
	{"it is called differently now", "python script ruby", calledDifferently},
	{"it is for its own file alone now", "script rust java", hidden},
}

const inAnotherUnit = "it is counted in another unit now"

// promises finds what new code takes for granted and the other side changed.
type promises struct {
	*finder
	forms map[*file][][2]form // by changedForms
}

// contracts finds new lines of one side that use something as it was before the other side changed what it asks for.
func (f promises) contracts(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range f.sides[index(side)] {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			for _, p := range f.changedForms(side, one) {
				found, err := f.brokenBy(ctx, side, one, p[0], p[1])
				if err != nil {
					return nil, err
				}
				out = append(out, found...)
			}
		}
	}
	return out, nil
}

// changedForms lists the definitions that a side touched and the other uses: as each was, and as it is.
func (f promises) changedForms(side merge.Side, one *file) (out [][2]form) {
	l := outlineOf(one.path)
	if l == nil || len(one.edits) == 0 || len(one.from) == 0 {
		return nil
	}
	if known, ok := f.forms[one]; ok {
		return known
	}
	defer func() { f.forms[one] = out }()
	for _, name := range one.touchedBy(l) {
		if len(f.using(side.Other(), name)) == 0 {
			continue
		}
		had, has := l.named(one.from, name), l.named(one.to, name)
		if was, now, ok := one.becameMethod(l, name, has); ok {
			out = append(out, [2]form{was, now})
			continue
		}
		for _, d := range had {
			alike := func(o def) bool { return o.in == d.in }
			i := slices.IndexFunc(has, alike)
			if i >= 0 && !slices.ContainsFunc(has[i+1:], alike) && len(slices.DeleteFunc(slices.Clone(had), alike)) ==
				len(had)-1 {
				out = append(out, [2]form{formOf(l, one.path, one.from, d), formOf(l, one.path, one.to, has[i])})
			}
		}
	}
	return out
}

// becameMethod returns the forms of a name that was set on a value and is a method now.
func (f *file) becameMethod(l *language, name string, has []def) (was, is form, ok bool) {
	if !strings.Contains(f.was, "."+name) {
		return was, is, false
	}
	set := regexp.MustCompile(`^\s+(?:self|this)\.` + regexp.QuoteMeta(name) + `\s*(?::[^=]+)?=[^=]`)
	at := slices.IndexFunc(f.from, set.MatchString)
	i := slices.IndexFunc(has, func(d def) bool { return d.name == name && d.in != "" })
	if at < 0 || i < 0 || slices.ContainsFunc(f.to, set.MatchString) {
		return was, is, false
	}
	was = form{def: def{name: name, line: at, in: has[i].in}, family: l.family, path: f.path, lines: f.from}
	return was, formOf(l, f.path, f.to, has[i]), true
}

// brokenBy finds the uses that a changed form breaks.
func (f promises) brokenBy(ctx context.Context, side merge.Side, one *file, was, is form) (out []Misfit, err error) {
	for _, c := range contracts {
		if c.in != "" && !slices.Contains(strings.Fields(c.in), was.family) {
			continue
		}
		breaks := c.broken(was, is)
		if breaks == nil {
			continue
		}
		uses, err := f.usesOf(ctx, side.Other(), one, was)
		if err != nil {
			return nil, err
		}
		for _, u := range uses {
			if breaks(u) {
				out = append(out, Misfit{Kind: Signature, What: c.what, Name: was.name,
					Changed: one.place(side, is.line, false), Used: u.by.place(side.Other(), u.line, false)})
			}
		}
	}
	return out, nil
}

// usesOf lists the new lines of a side that use a definition of the other and stand in the result.
func (f promises) usesOf(ctx context.Context, side merge.Side, of *file, d form) (out []use, err error) {
	l := loss{lang: outlineOf(of.path), def: d.def, path: of.path}
	var lines []string // of the file
	err = f.standing(ctx, side, d.name, func(one *file) func(int) bool {
		if o := outlineOf(one.path); o == nil || o.family != d.family || one.lang != nil && definesIn(one, d.name) {
			return nil
		}
		var in []int
		in, lines = f.reads.uses(one, d.name)
		return func(i int) bool {
			return slices.Contains(in, i) && (l.refersTo(one, lines[i]) || l.hasMember(lines[i]))
		}
	}, func(one *file, i int) { out = append(out, use{one, i, lines[i], d.name}) })
	return out, err
}

// hasMember reports whether a line uses the name as a member of a value.
func (l *loss) hasMember(line string) bool {
	if l.def.in == "" {
		return false
	}
	for lo := range occurrences(line, l.def.name) {
		before, ok := strings.CutSuffix(strings.TrimRight(line[:lo], " \t"), ".")
		if ok && (!common[l.def.name] || l.isValue(before)) {
			return true
		}
	}
	return false
}

// isValue reports whether the name of a value before a member is that of the type that has it.
func (l *loss) isValue(before string) bool {
	m := lastWord.FindStringSubmatch(before)
	return m != nil && strings.EqualFold(strings.ReplaceAll(m[1], "_", ""), l.def.in)
}

func changedPlaces(was, is form) func(u use) bool {
	a, b := was.names(), is.names()
	if len(a) < 2 || slices.Equal(a, b) || !sameSet(a, b) || slices.Contains(a, "") {
		return nil
	}
	return func(u use) bool {
		calls := u.calls()
		return slices.ContainsFunc(calls, func(c invocation) bool { return positional(c.args) > 1 })
	}
}

func byName(was, is form) func(u use) bool {
	before, most := was.byPlace(), is.byPlace()
	if most >= before || !sameSet(was.names(), is.without("*")) {
		return nil
	}
	return func(u use) bool {
		calls := u.calls()
		return slices.ContainsFunc(calls, func(c invocation) bool { return positional(c.args) > most })
	}
}

func otherNames(was, is form) func(u use) bool {
	now := is.names()
	if slices.ContainsFunc(is.params, func(p string) bool { return strings.HasPrefix(p, "**") }) {
		return nil // it takes any name
	}
	gone := slices.DeleteFunc(was.names(), func(n string) bool { return n == "" || slices.Contains(now, n) })
	if len(gone) == 0 {
		return nil
	}
	return func(u use) bool {
		return slices.ContainsFunc(u.calls(), func(c invocation) bool {
			return slices.ContainsFunc(c.args, func(a string) bool {
				m := namedArg.FindStringSubmatch(a)
				return m != nil && slices.Contains(gone, m[1])
			})
		})
	}
}

// without returns the names of the parameters but for a sign that is none.
func (f form) without(sign string) []string {
	f.params = slices.DeleteFunc(slices.Clone(f.params), func(p string) bool { return p == sign })
	return f.names()
}

// byPlace returns how many arguments may be given by their place.
func (f form) byPlace() (n int) {
	for i, p := range f.params {
		switch {
		case p == "*":
			return n
		case strings.HasPrefix(p, "*"):
			return noEnd
		case i == 0 && (p == "self" || p == "cls"), f.family == "ruby" && strings.Contains(p, ":"):
		default:
			n++
		}
	}
	return n
}

// constructors match what makes a value, by family of language; NAME is the type.
var constructors = map[string]string{"python": `^\s+def (__init__)\(`, "script": `^\s+(constructor)\s*\(`,
	"java": `^\s+(?:public |protected |internal )?(NAME)\s*\([^;]*\{?\s*$`, "php": `\bfunction (__construct)\(`,
	"ruby": `^\s+def (initialize)\b`, "swift": `^\s+(?:public )?(init)\(`}

var annotated = rx.New(`^\s+(\w+)\s*:\s*[^=]+(=.*)?$`)

// construction returns how many values something is made with.
func (f form) construction() (a arity, ok bool) {
	if f.called { // a record
		return arityOf(&language{family: f.family}, f.lines, f.def)
	}
	makes := regexp.MustCompile(strings.ReplaceAll(constructors[f.family], "NAME", regexp.QuoteMeta(f.name)))
	n := 0
	for i, l := range f.body {
		m := makes.FindStringSubmatch(strings.TrimRight(l, "\r\n"))
		if m == nil {
			continue
		}
		n++
		a, ok = arityOf(&language{family: f.family}, f.body, def{name: m[1], line: i})
	}
	if n == 0 && f.family == "python" && f.line > 0 && strings.Contains(f.lines[f.line-1], "dataclass") {
		for _, l := range f.body {
			m := annotated.FindStringSubmatch(strings.TrimRight(l, "\r\n"))
			if m == nil || indentation(l) > indentation(f.body[0]) {
				continue
			}
			if a.most++; m[2] == "" {
				a.least++
			}
		}
		return a, a.most > 0
	}
	return a, ok && n == 1
}

var isType = rx.New(`\b(class|record|struct)\b`)

func otherConstruction(was, is form) func(u use) bool {
	if !isType.MatchString(was.head) || !isType.MatchString(is.head) {
		return nil
	}
	a, ok := was.construction()
	b, also := is.construction()
	if !ok || !also || a == b {
		return nil
	}
	return func(u use) bool {
		calls := u.calls()
		return slices.ContainsFunc(calls, func(c invocation) bool {
			return a.takes(len(c.args)) && !b.takes(len(c.args))
		})
	}
}

var hasFields = rx.New(`\b(interface|type|struct)\b`)

// valueField matches a field of a type whose values are written with the names of their fields.
var valueField = rx.New(`^\s+(?:pub(?:\([^)]*\))? |readonly |let |var )?(\w+)(\??)\s*:\s*([^=]+?)[,;]?\s*$`)

// fields returns the fields that a value must have, and all it may have.
func (f form) fields() (must, may []string) {
	if !hasFields.MatchString(f.head) {
		return nil, nil
	}
	for _, l := range f.body {
		m := valueField.FindStringSubmatch(strings.TrimRight(l, "\r\n"))
		if m == nil || indentation(l) > indentation(f.body[0]) {
			continue
		}
		if may = append(may, m[1]); m[2] == "" {
			must = append(must, m[1])
		}
	}
	return must, may
}

func otherFields(was, is form) func(u use) bool {
	_, may := was.fields()
	must, mayNow := is.fields()
	if len(may) == 0 || len(mayNow) == 0 {
		return nil
	}
	more := slices.DeleteFunc(slices.Clone(must), func(s string) bool { return slices.Contains(may, s) })
	less := slices.DeleteFunc(slices.Clone(may), func(s string) bool { return slices.Contains(mayNow, s) })
	if len(more)+len(less) == 0 {
		return nil
	}
	return func(u use) bool {
		given, ok := u.value()
		if !ok {
			return false
		}
		return slices.ContainsFunc(more, func(s string) bool { return !slices.Contains(given, s) }) ||
			slices.ContainsFunc(less, func(s string) bool { return slices.Contains(given, s) })
	}
}

// noValue matches lines in which a type's name stands before a bracket that opens no value.
var noValue = rx.New(`\b(struct|impl|enum|trait|interface|type|class|for|fn|function)\b`)

// value returns the names of the fields of a value of the type that begins in the line.
func (u use) value() (given []string, ok bool) {
	for lo := range occurrences(u.text, u.name) {
		rest := u.text[lo+len(u.name):]
		open := strings.IndexByte(rest, '{')
		if open < 0 || strings.Trim(rest[:open], " =[(") != "" || noValue.MatchString(u.text[:lo]) {
			continue
		}
		line := u.by.to[u.line]
		at := strings.Index(line, u.name)
		if at < 0 {
			continue
		}
		at += strings.IndexByte(line[at:], '{')
		parts, closed := bracketed(u.by.to, u.line, max(at, 0))
		if !closed || len(parts) == 0 {
			continue
		}
		for _, p := range parts {
			if strings.HasPrefix(p, "..") {
				return nil, false
			}
			name, _, _ := strings.Cut(p, ":")
			given = append(given, strings.Trim(strings.TrimSpace(name), `"'`))
		}
		return given, true
	}
	return nil, false
}

var (
	futures = rx.New(`^(?:System\.Threading\.Tasks\.)?(?:Promise|Task|ValueTask|Future|CompletableFuture|Deferred)\b`)
	async   = rx.New(`\b(?:async|suspend)\b`)
	awaited = rx.New(`\bawait\b|\.(?:then|join|get|Result|Wait|await|thenApply|thenAccept)\b|\bPromise\.|\basyncio\.|` +
		`\b(?:gather|create_task|ensure_future|launch|runBlocking|async|block_on|spawn|Task\.Run|Task\.WhenAll)\b`)
	suspending = rx.New(`\b(?:suspend|launch|runBlocking|async)\b`)
	caught     = rx.New(`\b(?:throws|try|catch)\b`)
)

// enclosed is the number of lines above a call among which is what it runs within.
const enclosed = 12

func (f form) async() bool { return async.MatchString(f.head) || futures.MatchString(f.result) }

// passedOn matches a line that hands on the result of a call as it is.
func passedOn(name string) *regexp.Regexp {
	return regexp.MustCompile(`^\s*return\s+(?:\w+\.)*` + regexp.QuoteMeta(name) + `\([^()]*\);?\s*$`)
}

func asynchronous(was, is form) func(u use) bool {
	if was.async() || !is.async() {
		return nil
	}
	passed := passedOn(was.name)
	return func(u use) bool {
		calls := u.calls()
		if len(calls) == 0 || awaited.MatchString(u.text) || passed.MatchString(u.text) {
			return false
		}
		if strings.Contains(is.head, "suspend") {
			return !suspending.MatchString(u.around(enclosed))
		}
		return true
	}
}

// thrown matches what a method says that it throws.
var thrown = rx.New(`\bthrows\b\s*([\w., ]*)`)

func (f form) throws() string {
	if m := thrown.FindStringSubmatch(f.head); m != nil {
		return m[0]
	}
	return ""
}

func throwing(was, is form) func(u use) bool {
	before, now := was.throws(), is.throws()
	if now == "" || strings.Contains(before, now) {
		return nil
	}
	return func(u use) bool {
		calls := u.calls()
		return len(calls) > 0 && !caught.MatchString(u.around(enclosed))
	}
}

var (
	mayBeNothing = rx.New(`\bNone\b|\bOptional\b|\bundefined\b|\bnull\b|\bOption<|\bResult<|\?$`)
	// what may follow something that may be nothing, by family of language
	cautious = rx.New(`^(?:\?|!|\)|\.(?:unwrap|expect|map|ok|and_then|is_|as_|or|filter|iter|cloned|copied|take|` +
		`err|get|` +
		`flat|if|stream|isPresent|isEmpty|let|also)\w*)`)
	takesApart = rx.New(`^(?:\.|\[|->|[-+*/<>]=?\s*[\w(])`)
)

func emptied(was, is form) func(u use) bool {
	if was.result == "" || mayBeNothing.MatchString(was.result) || !mayBeNothing.MatchString(is.result) {
		return nil
	}
	return func(u use) bool {
		return slices.ContainsFunc(u.calls(), func(c invocation) bool {
			return takesApart.MatchString(c.after) && !cautious.MatchString(c.after)
		})
	}
}

// returned matches a statement that ends a function with a value.
var returned = rx.New(`^\s*return\s+(.+?);?\s*$`)

// pair reports whether all that a function returns are several values. ok is false if it returns nothing, or both.
func (f form) pair() (several, ok bool) {
	n, pairs := 0, 0
	for _, l := range f.body {
		m := returned.FindStringSubmatch(strings.TrimRight(l, "\r\n"))
		if m == nil {
			continue
		}
		n++
		if parts, _ := bracketed([]string{"(" + m[1] + ")"}, 0, 0); len(parts) > 1 {
			pairs++
		}
	}
	return pairs > 0, n > 0 && (pairs == 0 || pairs == n)
}

var (
	takenApart = rx.New(`\w\s*,\s*\w[\w\s,]*[)\]]?\s*(?::=|=)[^=]|\)\[\d|\.[01]\b|\[\s*\w+\s*,.*\]\s*=`)
	tuple      = rx.New(`^(?:\(|tuple\b|Tuple\b|\[)`)
)

func several(was, is form) func(u use) bool {
	before, ok := was.pair()
	now, also := is.pair()
	typed := was.result != "" && is.result != "" && !tuple.MatchString(was.result) && tuple.MatchString(is.result)
	if !was.called || isType.MatchString(was.head) ||
		!typed && (was.family != "python" || !ok || !also || before || !now) {
		return nil
	}
	passed := passedOn(was.name)
	return func(u use) bool {
		calls := u.calls()
		return len(calls) > 0 && !takenApart.MatchString(u.text) && !passed.MatchString(u.text)
	}
}

var (
	numeric = rx.New(`^(?:unsigned |long )*(?:u?int\w*|long|short|double|float|[iuf]\d+|usize|number|Int|Long|Do` +
		`uble|Integer)$`)
	textual = rx.New(`^&?(?:'\w+ )?(?:str|string|String|char \*|const char \*)$`)
	aNumber = rx.New(`^-?\d[\d_.]*$`)
	aText   = rx.New(`^["'].*["']$`)
)

func otherKinds(was, is form) func(u use) bool {
	if len(was.params) != len(is.params) || len(was.params) == 0 || !sameSet(was.names(), is.names()) {
		return nil
	}
	type pair struct{ was, is string }
	kinds := map[int]pair{}
	for i := range was.params {
		if a, b := paramType(was.family, was.params[i]), paramType(is.family, is.params[i]); a != b && a != "" &&
			b != "" {
			kinds[i] = pair{a, b}
		}
	}
	if len(kinds) == 0 {
		return nil
	}
	return func(u use) bool {
		calls := u.calls()
		return slices.ContainsFunc(calls, func(c invocation) bool {
			args := c.args
			for i, k := range kinds {
				if i >= len(args) {
					continue
				}
				star := func(s string) int { return strings.Count(s, "*") + strings.Count(s, "&") }
				switch at := strings.HasPrefix(args[i], "&"); {
				case (u.family() == "c" || u.family() == "rust") && star(k.is) > star(k.was) && !at &&
					!aText.MatchString(args[i]),
					(u.family() == "c" || u.family() == "rust") && star(k.is) < star(k.was) && at,
					numeric.MatchString(k.was) && textual.MatchString(k.is) && aNumber.MatchString(args[i]),
					textual.MatchString(k.was) && numeric.MatchString(k.is) && aText.MatchString(args[i]):
					return true
				}
			}
			return false
		})
	}
}

func (u use) family() string { return outlineOf(u.by.path).family }

// units lists measures, each with words for its units; the words of one unit are joined by a stroke.
var units = []string{
	"ns|nanos|nanoseconds us|micros|microseconds ms|millis|milliseconds|msec s|sec|secs|second|seconds " +
		"min|mins|minute|minutes h|hour|hours d|day|days",
	"mm|millimetres|millimeters cm|centimetres|centimeters m|metre|metres|meter|meters km|kilometres|kilometers " +
		"ft|foot|feet mi|mile|miles nm|nmi",
	"kn|kt|knots kmh mps", "g|gram|grams kg|kilograms t|tons|tonnes lb|pounds",
	"byte|bytes kb|kib|kilobytes mb|mib|megabytes gb|gib|gigabytes", "cent|cents euro|euros|eur",
	"degree|degrees|deg rad|radian|radians", "celsius fahrenheit kelvin", "percent|pct|percentage fraction|ratio|share",
}

// unitOf returns the measure and the unit that words tell of. ok is false if they tell of none, or of several.
func unitOf(words []string) (measure, unit int, ok bool) {
	n := 0
	for i, m := range units {
		for k, names := range strings.Fields(m) {
			if slices.ContainsFunc(words, func(w string) bool {
				return slices.Contains(strings.Split(names, "|"),
					w)
			}) {
				measure, unit = i, k
				n++
			}
		}
	}
	return measure, unit, n == 1
}

// wordsIn returns the words of the names in a text, without digits.
func wordsIn(text string) (out []string) {
	for w := range diff.NameWords(text) {
		out = append(out, strings.FieldsFunc(w, unicode.IsDigit)...)
	}
	return out
}

// otherMeasure reports whether two texts tell of different units of one measure.
func otherMeasure(a, b string) bool {
	m, u, ok := unitOf(wordsIn(a))
	n, v, also := unitOf(wordsIn(b))
	return ok && also && m == n && u != v
}

// remark matches a comment in a line.
var remark = rx.New(`(?://|#|--|/\*|^\s*\*)(.*)$`)

// remarks returns the comments of a definition: in its line, and in those right above it.
func (f form) remarks() string {
	var out []string
	for i := f.line; i >= max(0, f.line-3); i-- {
		m := remark.FindStringSubmatch(strings.TrimRight(f.lines[i], "\r\n"))
		if m == nil && i < f.line {
			break
		}
		if m != nil {
			out = append(out, m[1])
		}
	}
	return strings.Join(out, " ")
}

func otherUnit(was, is form) func(u use) bool {
	called := func(u use) bool { return len(u.calls()) > 0 }
	if len(was.params) == len(is.params) {
		for i := range was.params {
			if a, b := paramName(was.family, was.params[i]), paramName(is.family, is.params[i]); otherMeasure(a, b) {
				return func(u use) bool {
					calls := u.calls()
					return slices.ContainsFunc(calls, func(c invocation) bool {
						return i < len(c.args) && !namedArg.MatchString(c.args[i])
					})
				}
			}
		}
	}
	if otherMeasure(was.remarks(), is.remarks()) {
		if was.called {
			return called
		}
		return func(use) bool { return true }
	}
	return nil
}

// isSet matches what follows a name that is set.
var isSet = rx.New(`^\s*=[^=]`)

// property matches what makes a method be used without brackets.
var property = rx.New(`@(?:\w+\.)?(?:cached_)?property\b|^\s*(?:static )?get\s+\w+\(`)

func (f form) isProperty() bool {
	return property.MatchString(f.head) || f.line > 0 && property.MatchString(f.lines[f.line-1])
}

func calledDifferently(was, is form) func(u use) bool {
	if was.called == is.called && was.isProperty() == is.isProperty() || was.in == "" && is.in == "" {
		return nil
	}
	now := is.called && !is.isProperty()
	if (was.called && !was.isProperty()) == now {
		return nil
	}
	return func(u use) bool {
		for lo := range occurrences(u.text, u.name) {
			rest := u.text[lo+len(u.name):]
			if strings.HasSuffix(u.text[:lo], ".") && strings.HasPrefix(rest, "(") != now &&
				!isSet.MatchString(rest) {
				return true
			}
		}
		return false
	}
}

// offered matches the words that offer something to other files, and withheld those that do not.
var (
	offeredTo = rx.New(`^(?:export|pub|public)\b`)
	withheld  = rx.New(`^private\b`)
)

func hidden(was, is form) func(u use) bool {
	if !offeredTo.MatchString(was.head) || offeredTo.MatchString(is.head) {
		return nil
	}
	switch is.family {
	case "java":
		if !withheld.MatchString(is.head) {
			return nil
		}
	case "script":
		for _, l := range is.lines {
			if exporting(l) && HasWord(l, is.name) {
				return nil
			}
		}
	}
	return func(u use) bool { return u.by.path != was.path }
}

var attributeSet = rx.New(`^\s+(?:self|this)\.(\w+)\s*(?::[^=]+)?=[^=]`)

// touchedBy lists the names whose definitions the edits may have changed, by a language: those in removed lines, those
// below a removed comment, and those that enclose an edit.
func (f *file) touchedBy(l *language) (names []string) {
	add := func(lines []string) (found bool) {
		for _, d := range l.definitions(lines) {
			if found = true; !slices.Contains(names, d.name) {
				names = append(names, d.name)
			}
		}
		return found
	}
	for _, e := range f.edits {
		add(f.from[e.A0:e.A1])
		add(f.from[e.A1:min(len(f.from), e.A1+1)])
		for _, text := range f.from[e.A0:e.A1] {
			if m := attributeSet.FindStringSubmatch(text); m != nil && !slices.Contains(names, m[1]) {
				names = append(names, m[1])
			}
		}
		in := leastIndented(f.from[e.A0:e.A1], f.to[e.B0:e.B1])
		for i := e.A0 - 1; i >= max(0, e.A0-farthestHead) && in > 0; i-- {
			if strings.TrimSpace(f.from[i]) != "" && indentation(f.from[i]) < in && add(f.from[i:i+1]) {
				in = indentation(f.from[i])
			}
		}
	}
	return names
}

// leastIndented returns the least indentation of lines that are not blank. A line that begins with what closes a
// bracket belongs to the one that opens it, so it counts as deeper.
func leastIndented(lists ...[]string) int {
	least := 1 << 20
	for _, l := range slices.Concat(lists...) {
		if text := strings.TrimSpace(l); text != "" {
			in := indentation(l)
			if strings.ContainsAny(text[:1], ")]}") {
				in++
			}
			least = min(least, in)
		}
	}
	return least
}

// farthestHead is the number of lines over which the definition is sought that encloses an edit.
const farthestHead = 400

// exports finds imports of a default that is none any more, and of names that became the default.
func (f promises) exports(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range f.sides[index(side)] {
			if one.lang != script && one.lang != typed || one.old.Absent() || one.new.Absent() {
				continue
			}
			was, is := defaultOf(one.from), defaultOf(one.to)
			if (was < 0) == (is < 0) {
				continue
			}
			stem := stemOf(one.path)
			from := regexp.MustCompile(`^import\s+(.*?)\s+from\s+["'][^"']*\b` + regexp.QuoteMeta(stem) +
				`(?:\.\w+)?["']`)
			var m Misfit
			if err := f.standing(ctx, side.Other(), stem, func(other *file) func(int) bool {
				return func(i int) bool {
					m = Misfit{Kind: Signature}
					if asks := from.FindStringSubmatch(other.to[i]); asks != nil {
						m.Name, m.Changed, m.What = exportNow(side, one, was, is, asks[1])
					}
					return m.Name != ""
				}
			}, func(other *file, i int) {
				m.Used = other.place(side.Other(), i, false)
				out = append(out, m)
			}); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// exportNow compares what an import asks for with the default export of a file before and after a side's edit, each the
// index of its line or -1.
func exportNow(side merge.Side, one *file, was, is int, imports string) (name string, at Place, what string) {
	plain, braced, _ := strings.Cut(imports, "{")
	plain = strings.Trim(plain, " ,")
	switch {
	case was >= 0 && plain != "" && !strings.HasPrefix(plain, "*"):
		return plain, one.place(side, was, true), "it is no longer the default export"
	case is >= 0 && braced != "":
		for _, n := range strings.Split(strings.TrimRight(braced, "} "), ",") {
			n, _, _ = strings.Cut(strings.TrimSpace(n), " ")
			if n != "" && HasWord(one.to[is], n) {
				return n, one.place(side, is, false), "it is the default export now"
			}
		}
	}
	return "", at, ""
}

func defaultOf(lines []string) int {
	return slices.IndexFunc(lines, func(l string) bool {
		return strings.HasPrefix(l, "export default") || strings.HasPrefix(l, "module.exports =")
	})
}

// demands finds new types of one side that lack a member which the other added to what they are made from.
func (f promises) demands(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range f.sides[index(side)] {
			if one.lang == nil || ctx.Err() != nil {
				continue
			}
			for _, p := range f.changedForms(side, one) {
				found, err := f.lacking(ctx, side, one, p[0], p[1])
				if err != nil {
					return nil, err
				}
				out = append(out, found...)
			}
		}
	}
	return out, ctx.Err()
}

// lacking finds the new types that lack a member.
func (f promises) lacking(ctx context.Context, side merge.Side, one *file, was, is form) (out []Misfit, err error) {
	had, _ := was.members()
	_, empty := is.members()
	for member, none := range empty {
		if !none || slices.Contains(had, member) {
			continue
		}
		q := regexp.QuoteMeta(is.name)
		inherits := regexp.MustCompile(`\b(?:extends|implements)\b.*\b` + q + `\b|^\s*class\s+\w+\(.*\b` + q +
			`\b.*\):|\bimpl(?:<[^>]*>)?\s+(?:\w+::)*` + q + `\b.*\bfor\b|\b(?:class|struct|record|object)\s+\w+[` +
			`^:]*:\s*.*\b` + q + `\b`)
		at := slices.IndexFunc(one.to, func(l string) bool { return HasWord(l, member) })
		if err := f.standing(ctx, side.Other(), is.name, func(other *file) func(int) bool {
			if other.lang == nil || other.lang.family != one.lang.family || HasWord(other.is, member) {
				return nil
			}
			return func(i int) bool {
				return inherits.MatchString(other.to[i]) && !strings.Contains(other.to[i], "abstract ")
			}
		}, func(other *file, i int) {
			out = append(out, Misfit{Kind: Implements, Name: member, Changed: one.place(side, at, false),
				Used: other.place(side.Other(), i, false)})
		}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// listOf is a type with the list of its values.
type listOf struct {
	name    string
	line    int
	members []string
}

var (
	listOpens  = rx.New(`\benum\s+(?:class\s+|struct\s+)?(\w+)|^class\s+(\w+)\(.*(?:Enum|Flag)\b.*\):|^(const) \(\s*$`)
	listMember = rx.New(`^\s+(?:case\s+)?([A-Za-z_]\w*)\b\s*(?:[\w.]*\s*=[^=].*|\(.*\)|\{.*\})?[,;]?\s*(?://.*)?$`)
	listUnion  = rx.New(`^\s*(?:export\s+)?type\s+(\w+)\s*=\s*((?:\|?\s*["'][\w-]+["']\s*)+);?\s*$`)
	quotedWord = rx.New(`["']([\w-]+)["']`)
)

// lists returns the types of lines that list their values.
func lists(lines []string) (out []listOf) {
	for i, l := range lines {
		if !strings.Contains(l, "enum") && !strings.Contains(l, "type ") && !strings.Contains(l, "class ") &&
			!strings.Contains(l, "const (") {
			continue
		}
		l = strings.TrimRight(l, "\r\n")
		if m := listUnion.FindStringSubmatch(l); m != nil {
			one := listOf{name: m[1], line: i}
			for _, w := range quotedWord.FindAllStringSubmatch(m[2], -1) {
				one.members = append(one.members, w[1])
			}
			out = append(out, one)
			continue
		}
		m := listOpens.FindStringSubmatch(l)
		if m == nil {
			continue
		}
		one := listOf{name: m[1] + m[2] + m[3], line: i}
		for k := i + 1; k < len(lines) && strings.TrimSpace(lines[k]) != "" && indentation(lines[k]) > indentation(
			lines[i]); k++ {
			m := listMember.FindStringSubmatch(strings.TrimRight(lines[k], "\r\n"))
			if m == nil || notNames[m[1]] {
				break
			}
			if k == i+1 && one.name == "const" {
				one.name += " " + m[1]
			}
			one.members = append(one.members, m[1])
		}
		out = append(out, one)
	}
	return out
}

var (
	branches = rx.New(`\b(?:switch|match|when|case)\b.*[{:]\s*$|\bmap\[|[=:(]\s*\{\s*$|\{\s*$`)
	chooses  = rx.New(`\b(?:switch|match|when)\b`)
	rest     = rx.New(`^\s*(?:default\b|else\b|_\s*(?:=>|->|:|if)|case _\b|\} else)`)
)

// grown finds new code of one side that lists all values of a type to which the other added one.
func (f promises) grown(ctx context.Context) (out []Misfit, err error) {
	for _, side := range []merge.Side{merge.Yours, merge.Theirs} {
		for _, one := range f.sides[index(side)] {
			if outlineOf(one.path) == nil || !slices.ContainsFunc(one.edits, func(
				e diff.Edit) bool {
				return e.B1 > e.B0
			}) {
				continue
			}
			var before []listOf
			for _, now := range lists(one.to) {
				if before == nil {
					before = lists(one.from)
				}
				i := slices.IndexFunc(before, func(o listOf) bool { return o.name == now.name })
				if i < 0 || len(before[i].members) < 2 || ctx.Err() != nil {
					continue
				}
				more := slices.DeleteFunc(slices.Clone(now.members), func(m string) bool {
					return slices.Contains(before[i].members, m)
				})
				if len(more) == 0 || len(now.members)-len(more) != len(before[i].members) {
					continue
				}
				found, err := f.listing(ctx, side, one, before[i].members, more[0], now.line)
				if err != nil {
					return nil, err
				}
				out = append(out, found...)
			}
		}
	}
	return out, ctx.Err()
}

// listing finds the new lines of the other side that list all values before one was added.
func (f promises) listing(ctx context.Context, side merge.Side, one *file, old []string, more string, line int) (
	out []Misfit, err error) {
	for _, other := range f.using(side.Other(), old[0]) {
		if o := outlineOf(other.path); o == nil || o.family != outlineOf(one.path).family {
			continue
		}
		for _, e := range other.edits {
			fresh := other.to[e.B0:e.B1]
			first := slices.IndexFunc(fresh, func(l string) bool { return HasWord(l, old[0]) })
			if first < 0 {
				continue
			}
			from, to := max(0, first-2*len(old)), min(len(fresh), first+3*len(old)+6)
			window := fresh[from:to]
			text := strings.Join(window, "")
			if HasWord(text, more) || slices.ContainsFunc(old, func(m string) bool { return !HasWord(text, m) }) ||
				slices.ContainsFunc(window, rest.MatchString) {
				continue
			}
			at := e.B0 + first
			for k := first - 1; k >= max(0, first-2); k-- {
				if branches.MatchString(strings.TrimRight(fresh[k], "\r\n")) &&
					indentation(fresh[k]) <= indentation(fresh[first]) && strings.ContainsAny(fresh[k], "({:") &&
					chooses.MatchString(fresh[k]) {
					at = e.B0 + k
					break
				}
			}
			stands, err := f.stands(ctx, other.path, other.to[at])
			if err != nil {
				return nil, err
			}
			added := slices.IndexFunc(one.to[line:], func(l string) bool { return HasWord(l, more) })
			if stands && added >= 0 {
				out = append(out, Misfit{Kind: Implements, What: AllListed, Name: more,
					Changed: one.place(side, line+added, false), Used: other.place(side.Other(), at, false)})
			}
		}
	}
	return out, nil
}
