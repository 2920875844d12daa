package hg

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// What hg writes down of an operation that it leaves half done.

// stateError reports that a state file cannot be read.
type stateError struct {
	command string
	err     error
}

func (e *stateError) Error() string {
	text := "what hg wrote down of its " + e.command + " cannot be read"
	if e.err != nil {
		text += ": " + e.err.Error()
	}
	if e.command == "update" {
		return text + ". “hg resolve --list” names the files. Nothing was changed"
	}
	return fmt.Sprintf("%s. “hg %s --abort” takes it back. Nothing was changed", text, e.command)
}

func (e *stateError) Unwrap() error { return e.err }

// stateOf reads and parses a state file.
func stateOf[T any](r *place, command, file string, parse func(text string) (T, error)) (T, error) {
	data, err := os.ReadFile(filepath.Join(r.own, file))
	if err != nil {
		var none T
		return none, err
	}
	s, err := parse(string(data))
	if err != nil {
		err = &stateError{command, err}
	}
	return s, err
}

var errShort = errors.New("it ends too early")

// fields reads a state line by line.
type fields struct {
	rest []string
	err  error
}

func fieldsOf(text string) *fields {
	return &fields{rest: strings.Split(strings.TrimRight(text, "\n"), "\n")}
}

// next returns the next line.
func (f *fields) next() (line string) {
	if len(f.rest) == 0 {
		f.err = errors.Join(f.err, errShort)
		return ""
	}
	line, f.rest = f.rest[0], f.rest[1:]
	return line
}

// id reads a node. An empty text and the null node are zero.
func (f *fields) id(hex string) object.ID {
	if strings.Trim(hex, "0") == "" {
		return object.ID{}
	}
	id, err := object.ParseID(hex)
	f.err = errors.Join(f.err, err)
	return id
}

// count reads the number of the lines that follow.
func (f *fields) count() int {
	n, err := strconv.Atoi(f.next())
	if err == nil && (n < 0 || n > len(f.rest)) {
		err = errShort
	}
	f.err = errors.Join(f.err, err)
	if err != nil {
		return 0
	}
	return n
}

// ids reads nodes that spaces divide.
func (f *fields) ids(text string) (out []object.ID) {
	for hex := range strings.FieldsSeq(text) {
		out = append(out, f.id(hex))
	}
	return out
}

// rebaseState is what hg writes down of a rebase.
type rebaseState struct {
	from           object.ID // where one was
	collapse, keep bool
	bookmark       string // the one that was active; empty for none
	list           []rebased
}

// rebased is a changeset of a rebase.
type rebased struct {
	id, onto object.ID
	made     object.ID // what it became; zero if nothing was made of it yet, or if it is left out
	left     bool      // it is left out
}

func (r *place) rebase() (*rebaseState, error) {
	return stateOf(r, "rebase", rebaseFile, parseRebase)
}

// parseRebase reads the state of a rebase: the changeset where one was, two lines that do not matter here, three flags,
// the bookmark, and a line for each changeset: its node, what it became or a negative number, and where it goes.
func parseRebase(text string) (*rebaseState, error) {
	f, s := fieldsOf(text), &rebaseState{}
	s.from = f.id(f.next())
	f.next()
	f.next()
	s.collapse, s.keep = f.next() == "1", f.next() == "1"
	f.next()
	s.bookmark = f.next()
	for _, line := range f.rest {
		p := strings.Split(line, ":")
		if len(p) < 3 {
			return nil, errShort
		}
		one := rebased{id: f.id(p[0]), onto: f.id(p[2])}
		switch {
		case !strings.HasPrefix(p[1], "-"):
			one.made = f.id(p[1])
		case p[1] != "-1":
			one.left = true
		}
		s.list = append(s.list, one)
	}
	return s, f.err
}

// histeditState is what hg writes down of a histedit.
type histeditState struct {
	at, topmost object.ID // what it made last, and where the branch was
	keep        bool
	rules       []rule
	replaced    []replaced
}

// rule is a line of its list that is not done.
type rule struct {
	verb string
	id   object.ID
}

// replaced is a changeset, and what became of it; none if it was left out.
type replaced struct {
	id object.ID
	by []object.ID
}

func (r *place) histedit() (*histeditState, error) {
	return stateOf(r, "histedit", histeditFile, parseHistedit)
}

// parseHistedit reads the state of a histedit: its version, two changesets, a flag, the rules in two lines each with
// their number before, the changesets that it replaced with their number before, and its backup.
func parseHistedit(text string) (*histeditState, error) {
	f, s := fieldsOf(text), &histeditState{}
	if version := f.next(); version != "v1" {
		return nil, fmt.Errorf("its form is “%s”", version)
	}
	s.at, s.topmost, s.keep = f.id(f.next()), f.id(f.next()), f.next() == "True"
	for range f.count() {
		s.rules = append(s.rules, rule{f.next(), f.id(f.next())})
	}
	for range f.count() {
		const hex = 40
		line := f.next()
		if len(line)%hex != 0 || line == "" {
			return nil, errShort
		}
		one := replaced{id: f.id(line[:hex])}
		for line = line[hex:]; line != ""; line = line[hex:] {
			one.by = append(one.by, f.id(line[:hex]))
		}
		s.replaced = append(s.replaced, one)
	}
	return s, f.err
}

// shelveState is what hg writes down of an unshelve.
type shelveState struct {
	name              string
	original, pending object.ID // where one was, and the uncommitted work on top of that
	parents, remove   []object.ID
	branch, bookmark  string // to be set at the end; empty for none
	keep              bool
}

// shelved reads the state of an unshelve. It returns nil if there is none.
func (r *place) shelved() (*shelveState, error) {
	s, err := stateOf(r, "unshelve", shelvedFile, parseShelved)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return s, err
}

// parseShelved reads the state of an unshelve: its version, and names with values.
func parseShelved(text string) (*shelveState, error) {
	f := fieldsOf(text)
	if version := f.next(); version != "2" {
		return nil, fmt.Errorf("its form is “%s”", version)
	}
	is := map[string]string{}
	for _, line := range f.rest {
		name, value, _ := strings.Cut(line, "=")
		is[name] = value
	}
	s := &shelveState{name: is["name"], original: f.id(is["originalwctx"]), pending: f.id(is["pendingctx"]),
		parents: f.ids(is["parents"]), remove: f.ids(is["nodestoremove"]), branch: is["branchtorestore"],
		keep: is["keep"] == "keep"}
	if b := is["activebook"]; !strings.HasPrefix(b, ":") {
		s.bookmark = b
	}
	const both = 2
	if f.err == nil && (len(s.parents) != both || s.original.IsZero() || s.pending.IsZero() || s.name == "") {
		f.err = errShort
	}
	return s, f.err
}

// parseGraft reads the state of a graft: a version, and a map in CBOR (RFC 8949) whose lists of nodes are texts.
func parseGraft(text string) (*graftState, error) {
	_, rest, _ := strings.Cut(text, "\n")
	lists, err := cborLists(rest)
	if err != nil {
		return nil, err
	}
	f, s := &fields{}, &graftState{}
	for _, hex := range lists["nodes"] {
		s.list = append(s.list, f.id(hex))
	}
	for _, hex := range lists["newnodes"] {
		s.made = append(s.made, f.id(hex))
	}
	return s, f.err
}

// graftState is what hg writes down of a graft: the changesets from the one at which it stopped, and those it made.
type graftState struct{ list, made []object.ID }

func (r *place) graft() (*graftState, error) { return stateOf(r, "graft", "graftstate", parseGraft) }
