package recovery

import (
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorvik.dev/dorvik/internal/change"
	"dorvik.dev/dorvik/internal/core/merge"
	"dorvik.dev/dorvik/internal/core/settle"
	"dorvik.dev/dorvik/internal/gittest"
	"dorvik.dev/dorvik/internal/ledger"
	"dorvik.dev/dorvik/internal/plan"
)

// TestHalfDoneStates leaves random lists, merges, picks, reverts and stashes half done, at random points, with a
// random part settled by hand. Going on by Dorvik must come to what going on by git comes to, with the same hand:
// commits, authors, messages, branches, index and files. Undo must bring back what was there before, byte for byte.
// DORVIK_STATES says how many states are tried and DORVIK_SEED which; the soak tries 5,000.
func TestHalfDoneStates(t *testing.T) {
	t.Parallel()
	states, first := 16, 1
	if n, err := strconv.Atoi(os.Getenv("DORVIK_STATES")); err == nil {
		states = n
	}
	if n, err := strconv.Atoi(os.Getenv("DORVIK_SEED")); err == nil {
		first = n * 1_000_000
	}
	seeds := []int{31001088, 32000143} // these failed once
	for i := range states {
		seeds = append(seeds, first+i)
	}
	for _, seed := range seeds {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			for again := range uint64(100) {
				if newTangle(t, uint64(seed)<<8+again).try(t) {
					return
				}
			}
			t.Error("no state was left half done in a hundred")
		})
	}
}

// tangle is a state that was half done, and how its own way on goes.
type tangle struct {
	*rand.Rand
	repo   *gittest.Repo
	kind   string
	begin  []string
	onward []string
	list   []string // of a rebase
	lost   bool     // git could not go on but by skipping a commit
}

// snap is the files of a commit.
type snap map[string]string

// slots are the lines that edits are made to: far enough apart to be conflicts of their own.
var slots = []int{2, 7, 12}

// stream is commits as git fast-import reads them.
type stream struct {
	strings.Builder
	marks int
}

func (h *stream) commit(branch, who string, from int, message string, files snap) (mark int) {
	h.marks++
	when := 1767000000 + 60*h.marks
	fmt.Fprintf(h, "commit refs/heads/%s\nmark :%d\nauthor %s %d +0100\ncommitter %[3]s %[4]d +0100\ndata %d\n%s\n",
		branch,
		h.marks, who, when, len(message), message)
	if from > 0 {
		fmt.Fprintf(h, "from :%d\n", from)
	}
	fmt.Fprint(h, "deleteall\n")
	for _, p := range slices.Sorted(maps.Keys(files)) {
		mode, text := "100644", files[p]
		if strings.HasSuffix(text, "\n#exec\n") {
			mode = "100755"
		}
		fmt.Fprintf(h, "M %s inline %s\ndata %d\n%s\n", mode, p, len(text), text)
	}
	return h.marks
}

// change makes random changes to files. Those of one side use names that the other does not.
func (g *tangle) change(files snap, who string, name byte) {
	for range 1 + g.IntN(3) {
		paths := slices.DeleteFunc(slices.Sorted(maps.Keys(files)), func(p string) bool { return p == "other" })
		p := paths[g.IntN(len(paths))]
		switch g.IntN(8) {
		case 0:
			files["new-"+who+string(name)] = linesOf("new-" + who + string(name))
		case 1: // one file of each side moves
			if from := "moves-" + who; files[from] != "" {
				files["moved/by-"+who] = files[from]
				delete(files, from)
			}
		case 2:
			delete(files, "goes-"+who)
		case 3:
			if from := "runs-" + who; files[from] != "" && !strings.HasSuffix(files[from], "#exec\n") {
				files[from] += "#exec\n"
			}
		default:
			if g.IntN(2) == 0 {
				p = []string{"f", "g"}[g.IntN(2)] // where conflicts are
			}
			if !strings.HasPrefix(p, "new-") {
				files[p] = withLine(files[p], who+string(name), slots[g.IntN(len(slots))])
			}
		}
	}
}

// linesOf is a text of lines that no other file has: by patches git takes files that are alike for moved ones.
func linesOf(path string) string {
	return strings.ReplaceAll(numbered("line"), "line", path)
}

// withLine is a text of numbered lines with one changed.
func withLine(text, to string, line int) string {
	lines := strings.SplitAfter(text, "\n")
	if line <= len(lines) && lines[line-1] != "" {
		lines[line-1] = fmt.Sprintf("%s %d\n", to, line)
	}
	return strings.Join(lines, "")
}

const (
	ada = "Ada Sund <ada@skerry.example>"
	bo  = "Bo Lind <bo@skerry.example>"
)

// newTangle makes a repository and has git stop in it, as the seed says.
func newTangle(t *testing.T, seed uint64) *tangle {
	g := &tangle{Rand: rand.New(rand.NewPCG(seed, 7))}
	g.repo = gittest.New(t)
	h := &stream{}
	files := snap{"other": "other\n"}
	for _, p := range []string{"f", "g", "moves-mine", "moves-theirs", "goes-mine", "goes-theirs", "runs-mine",
		"runs-theirs"} {
		files[p] = linesOf(p)
	}
	root := h.commit("main", ada, 0, "start", files)
	theirs, at := maps.Clone(files), root
	for i := range 1 + g.IntN(3) {
		before := maps.Clone(theirs)
		if g.change(theirs, "theirs", byte('a'+i)); maps.Equal(before, theirs) {
			theirs[fmt.Sprint("new-", i)] = "not empty\n" // picking one that is, git stops
		}
		message := fmt.Sprintf("theirs %c\n\nWith a body.\n", 'a'+i)
		if g.IntN(3) == 0 {
			message += "\nReviewed-by: Cy <cy@skerry.example>\n"
		}
		at = h.commit("theirs", bo, at, message, theirs)
	}
	mine, subjects := maps.Clone(files), []string{}
	at = root
	for i := range 2 + g.IntN(4) {
		before := maps.Clone(mine)
		if g.change(mine, "mine", byte('a'+i)); maps.Equal(before, mine) {
			mine[fmt.Sprint("own-", i)] = "not empty\n"
		}
		subject := fmt.Sprintf("mine %c", 'a'+i)
		if i > 0 && g.IntN(3) == 0 {
			subject = []string{"fixup!", "squash!", "amend!"}[g.IntN(3)] + " " + subjects[g.IntN(len(subjects))]
		}
		subjects = append(subjects, subject)
		at = h.commit("main", ada, at, fmt.Sprintf("%s\n\nBody of %c.\n", subject, 'a'+i), mine)
	}
	cmd := exec.Command("git", "-C", g.repo.Dir, "fast-import", "--quiet", "--force")
	cmd.Stdin = strings.NewReader(h.String())
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	r := g.repo
	r.Git("reset", "-q", "--hard", "main")
	r.Git("config", "core.editor", "true")
	g.plan(len(subjects))
	return g
}

// plan says what git is told.
func (g *tangle) plan(mine int) {
	g.kind = []string{"list", "list", "list", "rebase", "merge", "picks", "revert", "unmerged", "stash",
		"apply"}[g.IntN(10)]
	switch g.kind {
	case "list":
		g.list = g.lines(mine)
		g.begin = []string{"-c", "sequence.editor=cp .git/list", "rebase", "-i", "theirs"}
		if g.IntN(4) == 0 {
			g.begin = append(g.begin, "--signoff")
		}
		g.onward = []string{"rebase", "--continue"}
	case "rebase":
		g.begin, g.onward = []string{"rebase", "theirs"}, []string{"rebase", "--continue"}
		if g.IntN(3) == 0 {
			g.begin = append(g.begin, "--signoff")
		}
	case "apply":
		g.begin, g.onward = []string{"rebase", "--apply", "theirs"}, []string{"rebase", "--continue"}
	case "merge":
		g.begin = []string{"merge", "theirs"}
		g.onward = []string{"commit", "--no-edit", "--cleanup=strip"}
	case "picks":
		g.begin, g.onward = []string{"cherry-pick", "main..theirs"}, []string{"cherry-pick", "--continue"}
		for _, o := range []string{"-x", "--signoff"} {
			if g.IntN(2) == 0 {
				g.begin = append(g.begin, o)
			}
		}
	case "revert":
		n := 1 + g.IntN(mine)
		g.begin = []string{"revert", "--no-edit"}
		for range n {
			g.begin = append(g.begin, fmt.Sprintf("main~%d", g.IntN(mine)))
		}
		g.onward = []string{"revert", "--continue"}
		if g.IntN(3) == 0 {
			g.begin = append(g.begin, "--signoff")
		}
	case "unmerged":
		g.begin = [][]string{{"merge", "--squash", "theirs"}, {"cherry-pick", "-n", "theirs"}}[g.IntN(2)]
	case "stash":
		g.begin = []string{"stash", "pop"}
	}
}

// lines is a random list of a rebase.
func (g *tangle) lines(mine int) (out []string) {
	var order []int
	for i := mine - 1; i >= 0; i-- {
		order = append(order, i)
	}
	for i := 1; i < len(order); i++ {
		if g.IntN(6) == 0 {
			order[i-1], order[i] = order[i], order[i-1]
		}
	}
	into := false // there is a commit that others can become part of
	for n, back := range order {
		verb := []string{"pick", "pick", "pick", "pick", "reword", "edit", "squash", "fixup", "fixup -C",
			"drop"}[g.IntN(10)]
		if !into && (strings.HasPrefix(verb, "fixup") || verb == "squash") {
			verb = "pick"
		}
		into = into || verb != "drop"
		out = append(out, fmt.Sprintf("%s %s", verb, g.repo.Git("rev-parse", fmt.Sprintf("main~%d", back))))
		switch g.IntN(12) {
		case 0:
			out = append(out, "exec true")
		case 1:
			out = append(out, "break")
		case 2:
			branch := fmt.Sprintf("stacked-%d", n)
			g.repo.Git("branch", branch, fmt.Sprintf("main~%d", back))
			out = append(out, "update-ref refs/heads/"+branch)
		}
	}
	return out
}

// try compares both ways; false where git leaves nothing half done, or goes on
// as docs/differences.md says that Dorvik does not.
func (g *tangle) try(t *testing.T) bool {
	r := g.repo
	if g.kind == "stash" {
		r.Git("switch", "-q", "theirs")
		for p, text := range map[string]string{"f": withLine(linesOf("f"), "stashed", 7),
			"g": withLine(linesOf("g"), "stashed", 12)} {
			r.Write(p, text)
		}
		r.Git("stash", "push", "-q")
		r.Git("switch", "-q", "main")
	}
	if g.list != nil {
		r.Write(".git/list", strings.Join(g.list, "\n")+"\n")
	}
	_, _ = r.Try(g.begin...)
	for range g.IntN(3) {
		if g.atEnd() || g.onward == nil {
			break
		}
		g.settle(func() int { return 99 })
		g.goOn()
	}
	if g.atEnd() {
		return false
	}
	g.hands()
	if g.atEnd() { // all was settled by hand, and nothing goes on
		return false
	}
	says, before := r.Git("status"), g.state(t, r)

	byGit := *g
	byGit.repo = gittest.At(t, (&harbour{}).copy(t, r.Dir))
	byGit.finish(t)
	want := g.outcome(t, byGit.repo)
	if byGit.lost || g.onward != nil && g.onward[0] == "rebase" && strings.Contains(want[" log"], "Bo Lind") {
		return false // git skipped a patch, or made a fixup part of a commit of theirs
	}

	s := openAgain(t, r.Dir)
	wp, ok := g.byDorvik(t, s)
	if !ok {
		return false
	}
	told := strings.Join(g.list, " | ")
	got := g.outcome(t, r)
	got[" log"] = howSettled.ReplaceAllString(got[" log"], "")
	alike(t, want, got, fmt.Sprintf("%s: %s", g.begin, told))
	_, err := s.Applier.GoBack(t.Context(), wp.Name)
	require.NoError(t, err, told)
	alike(t, before, g.state(t, r), fmt.Sprintf("undone, %s: %s", g.begin, told))
	assert.Equal(t, says, r.Git("status"), told)
	return true
}

// howSettled is what Dorvik adds to the message that git began.
var howSettled = regexp.MustCompile(`\nConflicts, and how they were settled:\n\n(- .*\n)+`)

// alike holds that two accounts are the same, name by name.
func alike(t *testing.T, want, got map[string]string, what string) {
	t.Helper()
	for _, name := range slices.Sorted(maps.Keys(want)) {
		assert.Equal(t, want[name], got[name], "%s %s", name, what)
	}
	for name := range got {
		assert.Contains(t, want, name, what)
	}
}

// atEnd reports whether git has nothing half done.
func (g *tangle) atEnd() bool {
	for _, name := range []string{"MERGE_HEAD", "CHERRY_PICK_HEAD", "REVERT_HEAD", "rebase-merge", "rebase-apply",
		"sequencer"} {
		if _, err := os.Lstat(filepath.Join(g.repo.Dir, ".git", name)); err == nil {
			return false
		}
	}
	return g.repo.Git("ls-files", "-u") == ""
}

// settle settles conflicts in git's way: of each path as many places as are said, all else kept.
func (g *tangle) settle(blocks func() int) {
	r := g.repo
	for path := range strings.FieldsSeq(r.Git("diff", "--name-only", "--diff-filter=U")) {
		n := blocks()
		if n < 0 {
			continue
		}
		if _, err := os.Lstat(filepath.Join(r.Dir, path)); err == nil {
			r.Write(path, byHand(r.Read(path), n))
		}
		if n >= 99 {
			r.Git("add", path)
		}
	}
}

// hands is what a person did before giving up.
func (g *tangle) hands() {
	r := g.repo
	g.settle(func() int { return []int{-1, -1, 1, 2, 99, 99}[g.IntN(6)] })
	amend, _ := os.ReadFile(filepath.Join(r.Dir, ".git", "rebase-merge", "amend"))
	clean := r.Git("ls-files", "-u") == "" && r.Git("diff", "--cached", "--name-only") == ""
	switch g.IntN(4) {
	case 0:
		if clean && strings.TrimSpace(string(amend)) == r.Git("rev-parse", "HEAD") && g.atEdit() {
			r.Write("amended", "amended\n")
			r.Git("add", "amended")
		}
	case 1:
		r.Write("other", "edited\n")
	case 2:
		r.Write("loose", "not known\n")
	}
}

// atEdit reports whether a list stopped at a commit that it made.
func (g *tangle) atEdit() bool {
	done, _ := os.ReadFile(filepath.Join(g.repo.Dir, ".git", "rebase-merge", "done"))
	lines := strings.Split(strings.TrimSpace(string(done)), "\n")
	return strings.HasPrefix(lines[len(lines)-1], "edit ")
}

// goOn has git go on once, everything being settled.
func (g *tangle) goOn() {
	r := g.repo
	if g.kind == "picks" || g.kind == "revert" {
		if r.Git("status", "--porcelain", "--untracked-files=no") == "" { // nothing of it is left
			_, _ = r.Try(g.onward[0], "--skip")
			return
		}
	}
	if g.kind == "apply" && r.Git("status", "--porcelain", "--untracked-files=no") == "" {
		g.lost = true // by patches git has no join to offer: it is the patch, or nothing
		_, _ = r.Try("rebase", "--skip")
		return
	}
	_, _ = r.Try(g.onward...)
}

// finish has git go on until it is done.
func (g *tangle) finish(t *testing.T) {
	r := g.repo
	edited := r.Read("other")
	if edited != "other\n" {
		r.Git("checkout", "-q", "other") // git goes no further with edits beside it
		defer r.Write("other", edited)
	}
	for range 20 {
		g.settle(func() int { return 99 })
		if g.onward == nil || g.atEnd() {
			break
		}
		g.goOn()
	}
	require.True(t, g.atEnd(), "git does not come to an end: %s", g.list)
}

// byDorvik goes on by Dorvik, with the same hand. ok is false where it says why it does not.
func (g *tangle) byDorvik(t *testing.T, s *Session) (wp *ledger.Waypoint, ok bool) {
	st, err := s.Workspace.Stuck(t.Context())
	require.NoError(t, err)
	require.NotNil(t, st, "%s", g.begin)
	if st.Resume == nil {
		assert.NotEmpty(t, st.Why)
		assert.Contains(t, st.Why, "begins with a commit that becomes part of one that is not on it")
		return nil, false
	}
	require.NoError(t, s.TakeOver(t.Context(), ledger.Finish))
	v, err := s.SurveyFrom(t.Context(), false, nil, nil) // as the screens do
	require.NoError(t, err)
	p := v.Position
	require.NotNil(t, p.Resumes(), "%s", g.begin)
	for {
		j, err := s.Planner.Join(t.Context(), p, "", decisions(s), plan.Amends{}, nil)
		require.NoError(t, err)
		if c := firstWithout(j, decisions(s)); c != nil {
			require.NoError(t, s.Decide(sameHand(c)))
			continue
		}
		b, err := s.Planner.Build(t.Context(), p, j)
		require.NoError(t, err)
		wp, err := s.Accept(t.Context(), p, j, b, change.Consent{RewritePublished: true})
		require.NoError(t, err, "%s", g.list)
		return wp, true
	}
}

// sameHand decides as settle does: one line in the place of a conflict of texts, and the file where one side deleted
// it.
func sameHand(q *settle.Question) settle.Decision {
	if v, ok := q.Subject.(*merge.Versions); ok {
		way := settle.Yours
		if v.Yours.Absent() {
			way = settle.Theirs
		}
		return settle.Decision{Key: q.Key, Way: way}
	}
	return settle.Decision{Key: q.Key, Way: settle.Written, Text: "both " + digits.FindString(q.Yours+q.Theirs) + "\n"}
}

// outcome is all that can be told of a repository after git came to its end.
func (g *tangle) outcome(t *testing.T, r *gittest.Repo) map[string]string {
	out := gittest.Files(t, r.Dir)
	out[" log"] = r.Git("log", "--format=%an %ae %ad %T%n%B", "main", "--not", "theirs")
	if g.onward != nil && g.onward[0] == "rebase" { // git forgets to sign off where it stopped at a conflict
		if told := strings.Join(g.list, " "); strings.Contains(told, "squash") && strings.Contains(told, "fixup -C") {
			// Where nothing is left of the squash, git does not count it: see docs/differences.md.
			out[" log"] = r.Git("log", "--format=%an %ae %ad %T", "main", "--not", "theirs")
		}
		out[" log"] = regexp.MustCompile(`\n+(Signed-off-by: .*)?\n*`).ReplaceAllString(out[" log"], "\n")
	}
	out[" index"] = r.Git("ls-files", "--stage")
	for _, line := range strings.Split(r.Git("for-each-ref", "--format=%(refname) %(tree)", "refs/heads"), "\n") {
		name, is, _ := strings.Cut(line, " ")
		out[" "+name] = is
	}
	return out
}

// state is all that a half-done state consists of.
func (g *tangle) state(t *testing.T, r *gittest.Repo) map[string]string {
	out := gittest.Files(t, r.Dir)
	out[" index"] = r.Git("ls-files", "--stage")
	out[" refs"] = r.Git("for-each-ref", "--format=%(refname) %(objectname)", "refs/heads", "refs/rewritten",
		"refs/stash")
	out[" HEAD"] = r.Read(".git/HEAD")
	for _, name := range []string{"MERGE_HEAD", "MERGE_MSG", "MERGE_MODE", "CHERRY_PICK_HEAD", "REVERT_HEAD",
		"REBASE_HEAD",
		"SQUASH_MSG", "AUTO_MERGE", "rebase-merge", "rebase-apply", "sequencer"} {
		_ = filepath.WalkDir(filepath.Join(r.Dir, ".git", name), func(p string, d fs.DirEntry, err error) error {
			if err == nil && d.Type().IsRegular() {
				rel, _ := filepath.Rel(r.Dir, p)
				out[" "+rel] = r.Read(rel)
			}
			return nil
		})
	}
	return out
}
