package recovery

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/account"
	"dorvik.dev/dorvik/internal/core/history"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/plan"
)

// shapeOf makes the files of a list such as "a=1/2 b@target": a text whose lines are
// parted by slashes, a link, and with !, + and # a file that is no text, one that can be
// run, and a submodule. A name before := is that of a file of ten lines, with what
// stands behind it in place of the tenth.
func shapeOf(list string) files {
	f := files{}
	for _, word := range strings.Fields(list) {
		if name, last, ok := strings.Cut(word, ":="); ok {
			path, of, named := strings.Cut(name, "<")
			if !named {
				of = path
			}
			text := ""
			for n := range 9 {
				text += fmt.Sprintf("%s line %d\n", of, n)
			}
			f[path] = file{"100644", text + last + "\n"}
		} else if path, text, ok := strings.Cut(word, "="); ok {
			f[path] = file{"100644", strings.ReplaceAll(text, "/", "\n") + "\n"}
		} else if path, to, ok := strings.Cut(word, "@"); ok {
			f[path] = file{"120000", to}
		} else if path, text, ok := strings.Cut(word, "!"); ok {
			f[path] = file{"100644", "\x00" + text}
		} else if path, text, ok := strings.Cut(word, "+"); ok {
			f[path] = file{"100755", text + "\n"}
		} else if path, id, ok := strings.Cut(word, "#"); ok {
			f[path] = file{"160000", strings.Repeat(id, 40)}
		}
	}
	return f
}

// settledAs joins three trees by a route, every conflict settled by the first of some ways
// that it offers, and gives the files of the result and the account.
func settledAs(t *testing.T, base, yours, theirs string, route plan.Route, ways ...settle.Way) (map[string]string,
	[]string) {
	w := memory()
	who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0000"}
	commit := func(list string, parents ...object.ID) object.ID {
		who.When++
		return w.Planner.Store.PutCommit(&object.Commit{Tree: shapeOf(list).tree(t, w.Planner.Store), Parents: parents,
			AuthorLine: who.String(), Committer: who, Message: "x\n"})
	}
	root := commit(base)
	p := &plan.Position{Yours: commit(yours, root), Theirs: commit(theirs, root)}
	var err error
	p.Divergence, err = history.Diverge(t.Context(), w.Planner.Store, p.Yours, p.Theirs)
	require.NoError(t, err)
	decisions := &settle.Decisions{}
	for {
		j, err := w.Planner.Join(t.Context(), p, route, decisions, plan.Amends{}, nil)
		require.NoError(t, err)
		c := firstWithout(j, decisions)
		if c == nil {
			left, err := w.Planner.Accounts.LeftOut(t.Context(), p, j, decisions)
			require.NoError(t, err)
			var told []string
			for _, l := range left {
				told = append(told, fmt.Sprintf("%s %s %s: %s", l.Side, l.What, l.Path, l.Text))
			}
			out := map[string]string{}
			changes, err := w.Planner.Store.Changes(t.Context(), object.ID{}, j.Tree)
			require.NoError(t, err)
			for _, ch := range changes {
				data, err := w.Planner.Store.Blob(t.Context(), ch.New.ID)
				require.NoError(t, err)
				out[ch.Path] = string(data)
			}
			return out, told
		}
		way, ok := settle.Prefer(c, ways)
		require.True(t, ok, "%s %s offers %v", c.Path, c.Kind, c.Ways)
		decisions.Decide(settle.Decision{Key: c.Key, Way: way})
	}
}

// TestContentsAreJoinedWhateverTheNames settles questions of names and places by each side, on
// both routes: what is in the files is joined first, by itself, and nothing of it is lost.
func TestContentsAreJoinedWhateverTheNames(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, base, yours, theirs string
		holds                     []string // of the result, by either side
	}{
		{"moved into a directory that the other moved, and edited", "bq:=ten foo/w=w/x/y", "bq:=mine bar/w=w/x/y",
			"foo/bq<bq:=ten foo/w=w/x/y", []string{"mine", "bq line 0", "w\n"}},
		{"moved into a directory that goes where the file was", "source/bar:=ten source/baz:=b source/subdir/foo:=f",
			"source/bar:=ten source/baz:=b source/foo<source/subdir/foo:=f",
			"source/subdir/bar<source/bar:=ten source/baz:=b source/subdir/foo:=f", []string{"source/bar line 0",
				"source/baz line 0", "source/subdir/foo line 0"}},
		{"one file, two names", "f:=ten", "g<f:=ten", "h<f:=theirs", []string{"theirs", "f line 0"}},
		{"two files, one name", "a:=ten b:=ten", "n<a:=ten b:=yours", "a:=theirs n<b:=ten", []string{"a line 0",
			"b line 0", "yours", "theirs"}},
		{"a file renamed to what the other added", "a:=ten", "n<a:=ten", "a:=theirs n=new", []string{"a line 0",
			"theirs", "new"}},
		{"a file renamed to the other's directory", "a:=ten", "n<a:=ten", "a:=theirs n/x=new", []string{"a line 0",
			"theirs", "new"}},
		{"a file renamed into what the other has a file for", "a:=ten", "n/x<a:=ten", "a:=theirs n=new",
			[]string{"a line 0", "theirs", "new"}},
	} {
		for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
			for _, way := range []settle.Way{settle.Yours, settle.Theirs} {
				got, told := settledAs(t, c.base, c.yours, c.theirs, route, way)
				all := ""
				for _, text := range got {
					all += text
				}
				for _, want := range c.holds {
					assert.Contains(t, all, want, "%s, %s by %s: %v, left out %v", c.name, route, way, got, told)
				}
			}
		}
	}
}

// TestACollisionUnderTwoNamesIsAsked: both renamed a file, to different names, and changed the
// same line.
func TestACollisionUnderTwoNamesIsAsked(t *testing.T) {
	t.Parallel()
	for way, want := range map[settle.Way][2]string{settle.Yours: {"g", "mine"}, settle.Theirs: {"h", "theirs"}} {
		for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
			got, told := settledAs(t, "f:=ten", "g<f:=mine", "h<f:=theirs", route, way)
			require.Len(t, got, 1)
			assert.Contains(t, got[want[0]], want[1])
			assert.Len(t, told, 2, "the line and the name: %v", told)
		}
	}
}

func TestAFileAgainstADirectoryListsWhatItLeavesOut(t *testing.T) {
	t.Parallel()
	const base, yours, theirs = "z=1", "z=1 pier=mine", "z=1 pier/a=one pier/b=two"
	got, told := settledAs(t, base, yours, theirs, plan.Merge, settle.Yours)
	assert.Equal(t, map[string]string{"z": "1\n", "pier": "mine\n"}, got)
	assert.Equal(t, []string{"theirs file pier/a: their version of the file",
		"theirs file pier/b: their version of the file"}, told)
	got, told = settledAs(t, base, yours, theirs, plan.Merge, settle.Theirs)
	assert.Equal(t, map[string]string{"z": "1\n", "pier/a": "one\n", "pier/b": "two\n"}, got)
	assert.Equal(t, []string{"yours file pier: your version of the file"}, told)
	got, told = settledAs(t, base, yours, theirs, plan.Merge, settle.Both)
	assert.Equal(t, map[string]string{"z": "1\n", "pier-yours": "mine\n", "pier/a": "one\n", "pier/b": "two\n"}, got)
	assert.Equal(t, []string{"yours name pier: the name pier"}, told)
}

// TestWhatIsOverruledIsTold: a deletion that does not hold, and an edit that gave way to one.
func TestWhatIsOverruledIsTold(t *testing.T) {
	t.Parallel()
	_, told := settledAs(t, "f:=ten z=1", "f:=mine z=1", "z=1", plan.Merge, settle.Yours)
	assert.Equal(t, []string{"theirs deletion f: deleted"}, told)
	_, told = settledAs(t, "f:=ten z=1", "f:=mine z=1", "z=1", plan.Merge, settle.Theirs)
	assert.Equal(t, []string{"yours file f: your version of the file"}, told)
	_, told = settledAs(t, "f=a/b/c", "f=a/c", "f=a/B/c", plan.Merge, settle.Theirs)
	assert.Equal(t, []string{"yours deletion f: deleted"}, told[:1])
}

// TestAMendTellsWhatItTakesAway: lines of either side, also of a file that only one has, and not
// those that only moved.
func TestAMendTellsWhatItTakesAway(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ before, after, want string }{
		{"one\ntwo\nsame\nsame\n", "one\nsame\nsame\n", "two"},
		{"one\ntwo\nsame\nsame\n", "two\none\nsame\n", "same"},
		{"one\ntwo\nsame\nsame\n", "same\nsame\ntwo\none\n", ""},
		{"one\ntwo\nsame\nsame\n", "", "one two same same"},
	} {
		w := memory()
		who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0000"}
		commit := func(list string, parents ...object.ID) object.ID {
			who.When++
			return w.Planner.Store.PutCommit(&object.Commit{Tree: shapeOf(list).tree(t, w.Planner.Store),
				Parents:    parents,
				AuthorLine: who.String(), Committer: who, Message: "x\n"})
		}
		root := commit("z=1")
		p := &plan.Position{Yours: commit("z=1 n=one/two/same/same", root), Theirs: commit("z=2", root)}
		var err error
		p.Divergence, err = history.Diverge(t.Context(), w.Planner.Store, p.Yours, p.Theirs)
		require.NoError(t, err)
		for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
			j, err := w.Planner.Join(t.Context(), p, route, &settle.Decisions{},
				plan.Amends{Mends: []plan.Mend{{Path: "n", Before: c.before,
					After: c.after}}}, nil)
			require.NoError(t, err)
			left, err := w.Planner.Accounts.LeftOut(t.Context(), p, j, &settle.Decisions{})
			require.NoError(t, err)
			var told []string
			for _, l := range left {
				assert.True(t, l.Mend)
				assert.Equal(t, merge.Yours, l.Side)
				told = append(told, l.Text)
			}
			assert.Equal(t, c.want, strings.Join(told, " "), "%q by %s", c.after, route)
		}
	}
}

// TestAFileKeptUnderBothNamesByBoth: two lines merged each other's start, one a rename, and both
// kept the file under both names. What one of them does to it afterwards holds.
func TestAFileKeptUnderBothNamesByBoth(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, after, want string }{
		{"deleted", "f:=y z=1", "f:=y z=2"},
		{"renamed away", "f:=y h<f:=x z=1", "f:=y h<f:=x z=2"},
	} {
		for _, swapped := range []bool{false, true} {
			w := memory()
			who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0000"}
			commit := func(list string, parents ...object.ID) object.ID {
				who.When++
				return w.Planner.Store.PutCommit(&object.Commit{Tree: shapeOf(list).tree(t, w.Planner.Store),
					Parents:    parents,
					AuthorLine: who.String(), Committer: who, Message: "x\n"})
			}
			root := commit("f:=ten z=1")
			x, y := commit("d/g<f:=x z=1", root), commit("f:=y z=1", root)
			yours := commit("d/g<f:=x f:=y z=2", commit("d/g<f:=x f:=y z=1", x, y))
			theirs := commit(c.after, commit("d/g<f:=x f:=y z=1", y, x))
			if swapped {
				yours, theirs = theirs, yours
			}
			parted, err := history.Diverge(t.Context(), w.Planner.Store, yours, theirs)
			require.NoError(t, err)
			require.Len(t, parted.Bases, 2)
			j, err := w.Planner.Join(t.Context(), &plan.Position{Yours: yours, Theirs: theirs, Divergence: parted},
				plan.Merge,
				&settle.Decisions{}, plan.Amends{}, nil)
			require.NoError(t, err)
			assert.True(t, j.Clean(), "%s: %v", c.name, conflictPaths(j.Stops))
			assert.Equal(t, shapeOf(c.want).tree(t, w.Planner.Store), j.Tree, c.name)
		}
	}
}

// TestEveryShapeByEveryWay walks every shape a conflict has, by every way it offers, wherever
// there are several conflicts by every choice for each: what is not in the result is told.
func TestEveryShapeByEveryWay(t *testing.T) {
	t.Parallel()
	seen := map[merge.ConflictKind]map[settle.Way]bool{}
	for _, c := range []struct{ base, yours, theirs string }{
		{"f:=ten", "f:=mine", "f:=theirs"},                                    // content
		{"f=a/b/c/d", "f=a/c/d", "f=a/B/c/d"},                                 // a line taken out, and changed
		{"f=a/b/c/d", "f=a/x/b/c/d", "f=a/y/b/c/d"},                           // lines added in one place
		{"z=1", "z=1 n=mine", "z=1 n=theirs"},                                 // add/add
		{"f:=ten z=1", "f:=mine z=1", "z=1"},                                  // modify/delete
		{"f:=ten z=1", "z=1", "f:=theirs z=1"},                                // and the other way round
		{"f:=ten z=1", "g<f:=ten z=1", "z=1"},                                 // rename/delete
		{"f:=ten", "g<f:=mine", "h<f:=theirs"},                                // rename/rename
		{"f:=ten z=1", "g<f:=mine z=1", "h<f:=ten g=new z=1"},                 // and one name taken
		{"a:=ten b:=ten", "n<a:=mine b:=ten", "a:=theirs n<b:=ten"},           // two files, one name
		{"a:=ten", "n<a:=mine", "a:=theirs n=new"},                            // rename/add
		{"z=1", "z=1 p=mine", "z=1 p/x=theirs"},                               // file/directory
		{"p/x=1/2 z=1", "p=mine z=1", "p/x=1/3 p/y=new z=1"},                  // where the directory was
		{"p=1 z=1", "p=2 z=1", "p/x=theirs z=1"},                              // where the file was
		{"a:=ten", "p<a:=mine", "a:=theirs p/x=new"},                          // a file renamed to a directory's name
		{"d/x:=ten", "e/x<d/x:=ten", "d/x:=ten d/new=new"},                    // directory-rename
		{"d/x:=ten", "e/x<d/x:=ten e/new=mine", "d/x:=ten d/new=theirs"},      // and the new place taken
		{"d/x:=ten b:=ten", "e/x<d/x:=ten b:=mine", "d/x:=ten d/b<b:=theirs"}, // moved into it, both edited
		{"l@a z=1", "l@b z=1", "l@c z=1"},                                     // symlink
		{"f=1 z=1", "f@link z=1", "f=2 z=1"},                                  // type
		{"f!base z=1", "f!mine z=1", "f!theirs z=1"},                          // binary
		{"z=1", "z=1 f!mine", "z=1 f!theirs"},                                 // binary, added
		{"z=1", "z=1 f+run", "z=1 f=run"},                                     // mode
		{"s#1 z=1", "s#2 z=1", "s#3 z=1"},                                     // submodule
	} {
		for _, route := range []plan.Route{plan.Merge, plan.Rebase, plan.Pick} {
			// Every choice is a list of numbers, one a conflict, counted through.
			choices := []int{}
			for more := true; more; {
				out, offered := playShapes(t, c.base, c.yours, c.theirs, route, choices, seen)
				assert.Empty(t, out.lost(t), "%s | %s | %s by %s\n%s\n%+v", c.base, c.yours, c.theirs, route,
					strings.Join(out.decided, "\n"), out.left)
				for len(choices) < len(offered) {
					choices = append(choices, 0)
				}
				choices = choices[:len(offered)]
				more = false
				for i := len(offered) - 1; i >= 0 && !more; i-- {
					if choices[i]++; choices[i] < offered[i] {
						more, choices = true, choices[:i+1]
					}
				}
			}
		}
	}
	for _, kind := range []merge.ConflictKind{merge.Content, merge.AddAdd, merge.ModifyDelete, merge.FileDirectory,
		merge.ModeBits, merge.Type, merge.Symlink,
		merge.Binary, merge.Submodule, merge.RenameDelete, merge.RenameRename, merge.RenameAdd, merge.DirectoryRename} {
		assert.GreaterOrEqual(t, len(seen[kind]), 2, "%s is among them, by each of its ways: %v", kind, seen[kind])
	}
}

// playShapes settles the conflicts of three trees by the ways that choices number, the
// first where they end, and gives how many ways each offered.
func playShapes(t *testing.T, base, yours, theirs string, route plan.Route, choices []int,
	seen map[merge.ConflictKind]map[settle.Way]bool) (*outcome, []int) {
	w := memory()
	out := &outcome{w: w, base: shapeOf(base), tips: [2]files{shapeOf(yours), shapeOf(theirs)},
		on: [2]map[string]bool{{}, {}}}
	who := object.Signature{Name: "Ada", Email: "ada@skerry.example", When: 1767000000, Zone: "+0000"}
	commit := func(f files, parents ...object.ID) object.ID {
		who.When++
		return w.Planner.Store.PutCommit(&object.Commit{Tree: f.tree(t, w.Planner.Store), Parents: parents,
			AuthorLine: who.String(),
			Committer:  who, Message: "x\n"})
	}
	root := commit(out.base)
	y, th := commit(out.tips[0], root), commit(out.tips[1], root)
	var err error
	if out.p = (&plan.Position{Yours: y, Theirs: th}); route == plan.Pick {
		out.p, err = w.Planner.Picking(t.Context(), plan.Alone(out.p.Branch, y), []object.ID{th}, 0)
	} else {
		out.p.Divergence, err = history.Diverge(t.Context(), w.Planner.Store, y, th)
	}
	require.NoError(t, err)
	decisions := &settle.Decisions{}
	var offered []int
	for {
		out.j, err = w.Planner.Join(t.Context(), out.p, route, decisions, plan.Amends{}, nil)
		require.NoError(t, err)
		c := firstWithout(out.j, decisions)
		if c == nil {
			out.left, err = w.Planner.Accounts.LeftOut(t.Context(), out.p, out.j, decisions)
			require.NoError(t, err)
			return out, offered
		}
		n := 0
		if len(offered) < len(choices) {
			n = choices[len(offered)]
		}
		offered = append(offered, len(c.Ways))
		way := c.Ways[min(n, len(c.Ways)-1)].Way
		if seen[c.Kind] == nil {
			seen[c.Kind] = map[settle.Way]bool{}
		}
		seen[c.Kind][way] = true
		out.woven = out.woven || way == settle.Weave
		decisions.Decide(settle.Decision{Key: c.Key, Way: way})
		out.decided = append(out.decided, fmt.Sprintf("%s %s %s", c.Path, c.Kind, way))
	}
}

// TestTheCheckHasSubmodules: they are in its checkout as far as they are in the working tree, with those in
// them; of others it is said that they are missing.
func TestTheCheckHasSubmodules(t *testing.T) {
	t.Parallel()
	tm := newTeam(t)
	inner, lib, absent := gittest.New(t), gittest.New(t), gittest.New(t)
	inner.Commit("inner", "deep", "deep\n")
	absent.Commit("absent", "x", "x\n")
	add := func(r *gittest.Repo, from *gittest.Repo, path string) {
		r.Git("-c", "protocol.file.allow=always", "submodule", "add", "-q", from.Dir, path)
		r.Git("commit", "-q", "-m", "add "+path)
	}
	add(lib, inner, "inner")
	add(tm.mine, lib, "parts/lib")
	add(tm.mine, absent, "parts/absent")
	tm.mine.Git("-c", "protocol.file.allow=always", "submodule", "update", "-q", "--init", "--recursive")
	tm.mine.Git("submodule", "deinit", "-q", "-f", "parts/absent")
	s := tm.session()
	tip, err := object.ParseID(tm.mine.Git("rev-parse", "HEAD"))
	require.NoError(t, err)
	for range 2 { // again, in what is there
		var said []string
		r, at, err := s.Prover.RunCheck(t.Context(), nil, termsOf("cat parts/lib/inner/deep && test ! -e "+
			"parts/absent/x", object.ID{}).Command, tip,
			func(l string) { said = append(said, l) }, nil)
		require.NoError(t, err)
		assert.True(t, r.Passed)
		require.Len(t, said, 2)
		assert.Equal(t, said[0], "dorvik: "+at.Lacks[0])
		assert.Contains(t, said[0], "dorvik: the submodule parts/absent, or its commit, is not in your working tree")
		assert.Equal(t, "deep", said[1])
	}
	assert.Empty(t, tm.mine.Git("status", "--porcelain"))
}

// TestLargeFilesThatAreNotThere: what a filter would make of what is stored is told where it is not made.
func TestLargeFilesThatAreNotThere(t *testing.T) {
	tm := newTeam(t)
	const stands = "version https://example.org/spec/v1\noid sha256:00\nsize 9\n"
	tm.mine.Commit("large", ".gitattributes", "*.chart filter=far\n*.tide filter=near\nkept.tide -filter\n", "a.chart",
		stands,
		"sub/.gitattributes", "b.chart filter=near\n", "sub/b.chart", "whole\n", "c.tide", stands, "kept.tide", stands)
	gittest.Own(t, "filter.near.smudge", "cat")
	s := tm.session()
	tip, err := object.ParseID(tm.mine.Git("rev-parse", "HEAD"))
	require.NoError(t, err)
	var said []string
	_, at, err := s.Prover.RunCheck(t.Context(), nil, termsOf("true", object.ID{}).Command, tip,
		func(l string) { said = append(said, l) },
		nil)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"1 file is kept by the filter “far”, which is not set up here: the check has what is stored in its place " +
			"(a.chart)",
		"1 large file is not here but as a pointer to where it is kept: the check has the pointer (c.tide)"}, at.Lacks)
	assert.Len(t, said, 2)
}

// TestAMovedSubmoduleIsTold: the join moves what is recorded, and the submodule stays as git leaves it.
func TestAMovedSubmoduleIsTold(t *testing.T) {
	t.Parallel()
	for _, recurse := range []string{"false", "true"} {
		tm := newTeam(t)
		lib := gittest.New(t)
		old := lib.Commit("one", "l", "1\n")
		lib.Commit("two", "l", "2\n")
		allow := func(r *gittest.Repo, args ...string) {
			r.Git(append([]string{"-c", "protocol.file.allow=always"}, args...)...)
		}
		allow(tm.other, "submodule", "add", "-q", lib.Dir, "lib")
		tm.other.Git("-C", "lib", "checkout", "-q", old)
		tm.other.Commit("add lib")
		tm.other.Git("push", "-q")
		allow(tm.mine, "pull", "-q")
		allow(tm.mine, "submodule", "update", "-q", "--init")
		tm.other.Git("-C", "lib", "checkout", "-q", "main")
		tm.other.Commit("move lib")
		tm.other.Git("push", "-q")
		tm.mine.Commit("mine", "g", "mine\n")
		tm.mine.Git("config", "submodule.recurse", recurse)
		s := tm.session()
		p, j, b := ready(t, s, plan.Rebase, settle.Yours)
		_, err := s.Accept(t.Context(), p, j, b, change.Consent{})
		require.NoError(t, err)
		if notice := s.TakeNotice(); recurse == "true" {
			assert.Empty(t, notice)
			assert.Equal(t, "2\n", tm.mine.Read("lib/l"))
		} else {
			assert.Contains(t, notice, "“git submodule update --init lib” brings it there")
			assert.Equal(t, "1\n", tm.mine.Read("lib/l"))
		}
		s.Close()
	}
}

// TestBothOfTwoFilesOfOneName: two texts that both sides added, or gave one name, can stand side by side.
func TestBothOfTwoFilesOfOneName(t *testing.T) {
	t.Parallel()
	for _, route := range []plan.Route{plan.Merge, plan.Rebase} {
		tm := newTeam(t)
		long := strings.Repeat("a line that stays\n", 20)
		tm.mine.Commit("start", "a", long, "b", strings.ToUpper(long))
		tm.mine.Git("push", "-q")
		tm.other.Git("pull", "-q")
		tm.mine.Git("mv", "a", "c")
		tm.mine.Commit("mine", "n.txt", "one\nsame\nthree\n", "n-yours.txt", "it is taken\n")
		tm.other.Git("mv", "b", "c")
		tm.other.Commit("theirs", "n.txt", "1\nsame\n3\n")
		tm.other.Git("push", "-q")
		s := tm.session()
		p, j, b := ready(t, s, route, settle.Both)
		left, err := s.Planner.Accounts.LeftOut(t.Context(), p, j, decisions(s))
		require.NoError(t, err)
		require.Len(t, left, 1, "the content stands, the name does not")
		assert.Equal(t, "n.txt", left[0].Path)
		assert.Equal(t, account.Name, left[0].What)
		assert.Equal(t, merge.Yours, left[0].Side)
		_, err = s.Accept(t.Context(), p, j, b, change.Consent{})
		require.NoError(t, err)
		for name, want := range map[string]string{"n.txt": "1\nsame\n3\n", "n-yours-2.txt": "one\nsame\nthree\n",
			"n-yours.txt": "it is taken\n", "c": strings.ToUpper(long), "c-yours": long} {
			assert.Equal(t, want, tm.mine.Content("HEAD", name), "%s %s", route, name)
		}
	}
}
