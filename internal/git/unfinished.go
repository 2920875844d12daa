package git

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
	"dorvik.dev/dorvik/internal/core/rx"
	"dorvik.dev/dorvik/internal/vcs"
)

// rebaseOptions maps files of a rebase to options. An empty file stands for a switch.
var rebaseOptions = []struct{ file, name string }{
	{"signoff", "signoff"}, {"strategy", "strategy"}, {"strategy_opts", "strategy-option"},
	{"gpg_sign_opt", "gpg-sign"}, {"cdate_is_adate", "committer-date-is-author-date"},
	{"ignore_date", "reset-author-date"}, {"keep_redundant_commits", "empty=keep"},
}

// sequencerOptions maps settings of the sequencer to options.
var sequencerOptions = []struct{ key, name string }{
	{"signoff", "signoff"}, {"record-origin", "x"}, {"no-commit", "no-commit"}, {"edit", "edit"},
	{"keep-redundant-commits", "empty=keep"}, {"strategy", "strategy"}, {"strategy-option", "strategy-option"},
	{"gpg-sign", "gpg-sign"}, {"allow-ff", "ff"},
}

// where git keeps what, by the documentation of gitrepository-layout and of the commands.
const (
	rebaseMerge = "rebase-merge"
	rebaseApply = "rebase-apply"
	sequencer   = "sequencer"
	rewritten   = "refs/rewritten" // the labels of a list
)

// mergeFiles lists the files that exist while one commit is made.
var mergeFiles = []string{"MERGE_HEAD", "MERGE_MSG", "MERGE_MODE", "MERGE_RR", "MERGE_AUTOSTASH", "AUTO_MERGE",
	"CHERRY_PICK_HEAD", "REVERT_HEAD", "REBASE_HEAD", "SQUASH_MSG", rebaseMerge, rebaseApply, sequencer, rewritten}

// gitFiles reads files of a working tree's git directory.
type gitFiles struct{ r *Tree }

func (f gitFiles) has(name string) bool {
	_, err := os.Lstat(filepath.Join(f.r.GitDir, filepath.FromSlash(name)))
	return err == nil
}

// raw returns the content of a file, or "".
func (f gitFiles) raw(name string) string {
	data, err := os.ReadFile(filepath.Join(f.r.GitDir, filepath.FromSlash(name)))
	if err != nil {
		return ""
	}
	return string(data)
}

// text returns the content of a file without final line ends, or "".
func (f gitFiles) text(name string) string { return strings.TrimRight(f.raw(name), "\r\n") }

func (f gitFiles) number(name string) int {
	n, _ := strconv.Atoi(f.text(name))
	return n
}

// commit returns the commit that a file names, or zero if it does not exist.
func (f gitFiles) commit(ctx context.Context, name string) (object.ID, error) {
	text := f.text(name)
	if text == "" {
		return object.ID{}, nil
	}
	id, err := f.r.refs.Resolve(ctx, text)
	if err != nil {
		err = fmt.Errorf("%s: %w", name, err)
	}
	return id, err
}

// Unfinished returns the half-done operation, or nil.
func (r *Tree) Unfinished(ctx context.Context) (*vcs.Unfinished, error) {
	f := gitFiles{r}
	u := &vcs.Unfinished{Operation: f.operation(), By: vcs.InGit.Name}
	if u.Operation == "" {
		return nil, nil
	}
	b, err := r.refs.Current(ctx)
	if err != nil {
		return nil, err
	}
	u.Head, u.Branch, u.Detached, u.Before = b.Tip, b.Name, b.Name == "", b.Tip
	for _, name := range mergeFiles {
		if f.has(name) {
			u.Files = append(u.Files, name)
		}
	}
	switch u.Operation {
	case vcs.Merging:
		if err = f.merge(ctx, u); err == nil {
			u.Stash, err = f.commit(ctx, "MERGE_AUTOSTASH")
		}
	case vcs.Rebasing:
		if f.has(rebaseMerge) {
			err = f.rebase(ctx, u, rebaseMerge)
		} else {
			err = f.rebaseByPatches(ctx, u)
		}
	case vcs.Applying:
		err = f.patches(ctx, u)
	default:
		err = f.picks(ctx, u)
	}
	if err != nil {
		return nil, fmt.Errorf("reading what git left half done: %w", err)
	}
	message := f.text("MERGE_MSG")
	if f.has(rebaseMerge + "/message") { // git continues with this message, which has no sign-off
		message = f.text(rebaseMerge + "/message")
	}
	if u.Message, err = r.Uncommented(ctx, message); err != nil {
		return nil, err
	}
	u.Pulled = strings.Contains(r.lastAction(), "pull")
	return u, nil
}

// operation returns the half-done operation by git's files, or "".
func (f gitFiles) operation() vcs.Operation {
	switch {
	case f.has(rebaseMerge):
		return vcs.Rebasing
	case f.has(rebaseApply + "/applying"):
		return vcs.Applying
	case f.has(rebaseApply):
		return vcs.Rebasing
	case f.has("MERGE_HEAD"):
		return vcs.Merging
	case f.has("CHERRY_PICK_HEAD"):
		return vcs.Picking
	case f.has("REVERT_HEAD"):
		return vcs.Reverting
	case f.has(sequencer + "/todo"):
		if strings.HasPrefix(f.text(sequencer+"/todo"), "revert") {
			return vcs.Reverting
		}
		return vcs.Picking
	}
	return ""
}

// Busy names the half-done operation, if there is one.
func (r *Tree) Busy() vcs.Operation {
	f := gitFiles{r}
	switch {
	case f.has(rebaseApply + "/applying"):
		return vcs.Applying
	case f.has(rebaseMerge), f.has(rebaseApply):
		return vcs.Rebasing
	case f.has("MERGE_HEAD"):
		return vcs.Merging
	case f.has("REVERT_HEAD"), strings.HasPrefix(f.text(sequencer+"/todo"), "revert"):
		return vcs.Reverting
	case f.has("CHERRY_PICK_HEAD"), f.has(sequencer + "/todo"):
		return vcs.Picking
	}
	return ""
}

// merge reads the lines that are being merged.
func (f gitFiles) merge(ctx context.Context, u *vcs.Unfinished) error {
	for line := range strings.Lines(f.text("MERGE_HEAD")) {
		id, err := f.r.refs.Resolve(ctx, strings.TrimSpace(line))
		if err != nil {
			return err
		}
		u.Merged = append(u.Merged, id)
	}
	return nil
}

// begun reads the files of both kinds of rebase.
func (f gitFiles) begun(ctx context.Context, u *vcs.Unfinished, dir string) error {
	u.Branch, _ = strings.CutPrefix(f.text(dir+"/head-name"), "refs/heads/")
	if !strings.HasPrefix(f.text(dir+"/head-name"), "refs/heads/") {
		u.Branch = ""
	}
	var err error
	if u.Before, err = f.r.refs.Resolve(ctx, f.text(dir+"/orig-head")); err != nil {
		return err
	}
	if u.Onto, err = f.commit(ctx, dir+"/onto"); err == nil {
		u.Stash, err = f.commit(ctx, dir+"/autostash")
	}
	return err
}

func (f gitFiles) rebase(ctx context.Context, u *vcs.Unfinished, dir string) error {
	if err := f.begun(ctx, u, dir); err != nil {
		return err
	}
	var err error
	if u.Done, err = f.r.commands(ctx, f.text(dir+"/done")); err != nil {
		return err
	}
	if u.Todo, err = f.r.commands(ctx, f.text(dir+"/git-rebase-todo")); err != nil {
		return err
	}
	if u.Stopped, err = f.commit(ctx, dir+"/stopped-sha"); err != nil {
		return err
	}
	if err := f.merge(ctx, u); err != nil {
		return err
	}
	chain := f.text(dir + "/current-fixups") // the last line is the current commit
	u.Squashing, u.Noted = strings.Contains(chain, "squash "), strings.Count(strings.TrimSpace(chain), "\n") > 0
	u.Picking = f.has("MERGE_MSG") // git removes MERGE_MSG when it commits
	if u.Amend, err = f.commit(ctx, dir+"/amend"); err != nil {
		return err
	}
	if u.Moves, err = moves(f.text(dir + "/update-refs")); err != nil {
		return err
	}
	for _, o := range rebaseOptions {
		if f.has(dir + "/" + o.file) {
			u.Options = append(u.Options, vcs.Option{Name: o.name, Value: f.text(dir + "/" + o.file)})
		}
	}
	u.Remade = map[object.ID]object.ID{}
	for line := range strings.SplitSeq(f.text(dir+"/rewritten-list"), "\n") {
		if was, is, ok := strings.Cut(line, " "); ok {
			from, err := object.ParseID(was)
			to, terr := object.ParseID(strings.TrimSpace(is))
			if err == nil && terr == nil {
				u.Remade[from] = to
			}
		}
	}
	return nil
}

// rebaseByPatches reads a rebase by patches. Each patch begins with the id of its commit.
func (f gitFiles) rebaseByPatches(ctx context.Context, u *vcs.Unfinished) error {
	if err := f.begun(ctx, u, rebaseApply); err != nil {
		return err
	}
	u.At, u.Patches = f.number(rebaseApply+"/next"), f.number(rebaseApply+"/last")
	for i := 1; i <= u.Patches; i++ {
		head, _, _ := strings.Cut(f.text(fmt.Sprintf("%s/%04d", rebaseApply, i)), "\n")
		var id object.ID
		if w := strings.Fields(head); len(w) > 1 && w[0] == "From" {
			var err error
			if id, err = f.r.refs.Resolve(ctx, w[1]); err != nil {
				return err
			}
		}
		c := vcs.Command{Verb: vcs.Pick, Commit: id}
		switch {
		case i <= u.At && id.IsZero(): // git removes labels of completed steps
		case i < u.At:
			u.Done = append(u.Done, c)
		case i == u.At:
			u.Done, u.Stopped = append(u.Done, c), id
		default:
			u.Todo = append(u.Todo, c)
		}
	}
	return nil
}

// patches reads the progress of git am. It does not read the mails.
func (f gitFiles) patches(ctx context.Context, u *vcs.Unfinished) error {
	u.At, u.Patches = f.number(rebaseApply+"/next"), f.number(rebaseApply+"/last")
	return f.began(ctx, u, "ORIG_HEAD")
}

// began reads the branch's previous position from a file, if it exists.
func (f gitFiles) began(ctx context.Context, u *vcs.Unfinished, name string) error {
	id, err := f.commit(ctx, name)
	if err == nil && !id.IsZero() {
		u.Before = id
	}
	return err
}

func (f gitFiles) picks(ctx context.Context, u *vcs.Unfinished) error {
	head, verb := "CHERRY_PICK_HEAD", vcs.Pick
	if u.Operation == vcs.Reverting {
		head, verb = "REVERT_HEAD", vcs.Revert
	}
	var err error
	if u.Stopped, err = f.commit(ctx, head); err != nil {
		return err
	}
	if err := f.began(ctx, u, sequencer+"/head"); err != nil {
		return err
	}
	list, err := f.r.commands(ctx, f.text(sequencer+"/todo"))
	if err != nil {
		return err
	}
	if len(list) > 0 { // the commit at which it stopped is still on the list, even if it was committed since
		u.Done, u.Todo = list[:1], list[1:]
	} else {
		u.Done = []vcs.Command{{Verb: verb, Commit: u.Stopped}}
	}
	for _, m := range setOption.FindAllStringSubmatch(f.text(sequencer+"/opts"), -1) {
		key, value := m[1], strings.Trim(m[2], `"`)
		if key == "mainline" {
			u.Parent, _ = strconv.Atoi(value)
		}
		for _, o := range sequencerOptions {
			if o.key == key && value != "false" {
				u.Options = append(u.Options, vcs.Option{Name: o.name, Value: value})
			}
		}
	}
	return nil
}

var setOption = rx.New(`(?m)^\s*([a-z-]+)\s*=\s*(.*?)\s*$`)

// moves parses update-refs: for each branch a line with its name, old position and new one.
func moves(text string) (out []vcs.BranchMove, err error) {
	lines := strings.Split(text, "\n")
	for ; len(lines) >= 3; lines = lines[3:] {
		m := vcs.BranchMove{Name: lines[0]}
		if m.From, err = object.ParseID(lines[1]); err == nil && strings.Trim(lines[2], "0") != "" {
			m.To, err = object.ParseID(lines[2])
		}
		if err != nil {
			return nil, fmt.Errorf("update-refs: %s: %w", m.Name, err)
		}
		out = append(out, m)
	}
	return out, nil
}

// commands parses a list.
func (r *Tree) commands(ctx context.Context, text string) (out []vcs.Command, err error) {
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") || line == "noop" {
			continue
		}
		verb, rest, _ := strings.Cut(line, " ")
		c := vcs.Command{Verb: vcs.ParseVerb(verb), Rest: rest}
		args, _, _ := strings.Cut(c.Rest, " # ")
		words := strings.Fields(args)
		isFlag := func(w string) bool { return w == "-C" || w == "-c" }
		named := false
		if i := slices.IndexFunc(words, isFlag); i >= 0 {
			named, c.Flag = true, words[i]
		}
		words = slices.DeleteFunc(words, isFlag)
		switch c.Verb.Takes() {
		case vcs.Commit:
			named = true
		case vcs.Names:
			c.Names = words
		default:
			named = false
		}
		if named {
			if len(words) == 0 {
				return nil, fmt.Errorf("the line %q names no commit", line)
			}
			if c.Commit, err = r.refs.Resolve(ctx, words[0]); err != nil {
				return nil, err
			}
			c.Names = c.Names[min(1, len(c.Names)):]
		}
		out = append(out, c)
	}
	return out, nil
}

// Uncommented returns a prepared message without comments.
func (r *Tree) Uncommented(ctx context.Context, text string) (string, error) {
	mark, err := r.config.Config(ctx, "core.commentChar")
	if err != nil {
		return "", err
	}
	if mark == "" || mark == "auto" {
		mark = "#"
	}
	var out []string
	for line := range strings.SplitSeq(text, "\n") {
		if strings.HasPrefix(line, mark+" ------------------------ >8") {
			break
		}
		if line = strings.TrimRight(line, " \t\r"); strings.HasPrefix(line, mark) ||
			line == "" && (len(out) == 0 || out[len(out)-1] == "") {
			continue
		}
		out = append(out, line)
	}
	if text = strings.Trim(strings.Join(out, "\n"), "\n"); text != "" {
		text += "\n"
	}
	return text, nil
}

// lastAction returns the last entry's text in the reflog of HEAD.
func (r *Tree) lastAction() string {
	data, err := os.ReadFile(filepath.Join(r.GitDir, "logs", "HEAD"))
	if err != nil {
		return ""
	}
	line := strings.TrimRight(string(data), "\n")
	_, why, _ := strings.Cut(line[strings.LastIndexByte(line, '\n')+1:], "\t")
	return why
}
