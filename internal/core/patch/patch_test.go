package patch

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/gittest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMailsOfCommits: what git makes of commits, of texts, binary files, odd names, modes and moves, is read
// back as the very change.
func TestMailsOfCommits(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	r := gittest.New(t)
	names := []string{"plain", "with a blank", "folder/ö \"quoted\"\ttab", "a b/b a"}
	text := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "%d %d\n", i, rng.IntN(40)/39)
		}
		if rng.IntN(3) == 0 {
			b.WriteString("no end")
		}
		return b.String()
	}
	binary := func() string {
		data := make([]byte, 300+rng.IntN(3000))
		for i := range data {
			data[i] = byte(rng.IntN(4))
		}
		return string(data)
	}
	r.Commit("start", "keep", "keep\n")
	for i := range 40 {
		var files []string
		for _, name := range names {
			switch rng.IntN(5) {
			case 0:
				files = append(files, name, text(rng.IntN(60)))
			case 1:
				files = append(files, name, binary())
			case 2:
				if _, err := r.Try("cat-file", "-e", "HEAD:"+name); err == nil {
					files = append(files, name, strings.Replace(r.Content("HEAD", name), "1", "0", 1)+"more")
				}
			case 3:
				_, _ = r.Try("rm", "-q", "-f", "--", name)
			case 4:
				_, _ = r.Try("mv", "--", name, fmt.Sprintf("moved %d", i))
			}
		}
		if i%7 == 0 {
			r.Git("update-index", "--chmod=+x", "keep")
		}
		r.Commit("commit "+fmt.Sprint(i), files...)
		args := []string{"format-patch", "--stdout", "--binary", "-1"}
		if i%2 == 0 {
			args = append(args, "-M", "-C", "--find-copies-harder")
		}
		if i%3 == 0 {
			args = append(args, "--full-index", "-U1")
		}
		mail := r.Git(args...)
		if mail == "" {
			continue // of a commit without changes git makes none
		}
		m, err := ReadMail(mail+"\n", Reading{})
		require.NoError(t, err)
		assert.Equal(t, r.Git("log", "-1", "--format=%an <%ae> %ad", "--date=raw"), m.Author.String())
		assert.Equal(t, r.Git("log", "-1", "--format=%B"), m.Message)
		changes, err := Parse(m.Patch, 1)
		require.NoError(t, err)
		seen := map[string]bool{}
		for _, f := range changes {
			before, after := "", ""
			if f.Old != "" {
				before = r.Content("HEAD~1", f.Old)
			}
			if f.New != "" {
				after = r.Content("HEAD", f.New)
				seen[f.New] = true
			}
			if f.Binary != nil {
				got, err := f.Binary.Apply([]byte(before))
				require.NoError(t, err)
				assert.Equal(t, after, string(got))
				continue
			}
			got, err := Apply(f.Hunks, before)
			require.NoError(t, err, f.Old)
			assert.Equal(t, after, got)
			was, is, nearly := Version(f.Hunks, before)
			assert.Equal(t, []string{before, after}, []string{was, is})
			assert.Empty(t, nearly)
		}
		for line := range strings.SplitSeq(r.Git("diff", "-z", "--name-only", "--diff-filter=AMT", "HEAD~1", "HEAD"), "\x00") {
			assert.True(t, line == "" || seen[line], line)
		}
	}
}

// TestMailsAsGitReadsThem compares with git's own reading of mails.
func TestMailsAsGitReadsThem(t *testing.T) {
	r := gittest.New(t)
	const patch = "---\n f | 1 +\n\ndiff --git a/f b/f\nnew file mode 100644\nindex 0000000..e69de29\n"
	const head = "From: Ilka Renn <ilka@skerry.example>\nDate: Mon, 29 Dec 2025 10:20:00 +0100\n"
	for name, mail := range map[string]string{
		"plain":           head + "Subject: [PATCH] Raise the fare\n\nAs agreed.\n" + patch,
		"of a series":     head + "Subject: [PATCH v2 3/7]  Raise   the\n fare\n\nAs agreed.\n\n\n\nTwice.  \n" + patch,
		"an answer":       head + "Subject: Re: [skerry] [PATCH] Raise\n\n" + patch,
		"encoded":         head + "Subject: =?UTF-8?q?F=C3=A4hre?= =?UTF-8?q?_und_Pier?=\n\nx\n" + patch,
		"another charset": head + "Subject: =?ISO-8859-1?Q?F=E4hre?=\nContent-Type: text/plain; charset=iso-8859-1\n\nF\xe4hre\n" + patch,
		"quoted":          head + "Subject: a\nContent-Type: text/plain; charset=utf-8\nContent-Transfer-Encoding: quoted-printable\n\nF=C3=A4hre =\nund\n" + patch,
		"in base 64":      head + "Subject: a\nContent-Transfer-Encoding: base64\n\nV29yZHMuCi0tLQo=\n",
		"said in it":      head + "Subject: other\n\nFrom: Tam Osk <tam@skerry.example>\nSubject: [PATCH] real\n\nWords.\n" + patch,
		"a name first":    strings.Replace(head, "Ilka Renn <ilka@skerry.example>", "ilka@skerry.example (Ilka Renn)", 1) + "Subject: a\n\nb\n" + patch,
		"of a box":        "From 0123456789012345678901234567890123456789 Mon Sep 17 00:00:00 2001\n" + head + "Subject: a\n\nb\n" + patch,
		"of parts": head + "Subject: a\nMIME-Version: 1.0\nContent-Type: multipart/mixed; boundary=xx\n\n--xx\n" +
			"Content-Type: text/plain; charset=utf-8\n\nWords.\n--xx\nContent-Type: text/x-patch; name=f\n\n" + patch + "--xx--\n",
	} {
		t.Run(name, func(t *testing.T) {
			info, err := r.TryInput([]byte(mail), "mailinfo", ".git/msg", ".git/patch")
			require.NoError(t, err)
			m, err := ReadMail(mail, Reading{})
			require.NoError(t, err)
			want := map[string]string{}
			for line := range strings.SplitSeq(info, "\n") {
				key, value, _ := strings.Cut(line, ": ")
				want[key] = value
			}
			subject, body, _ := strings.Cut(m.Message, "\n")
			assert.Equal(t, want["Subject"], subject)
			assert.Equal(t, want["Author"]+" "+want["Email"], m.Author.Name+" "+m.Author.Email)
			assert.EqualValues(t, 1767000000, m.Author.When)
			assert.Equal(t, strip(r.Read(".git/msg")), strip(strings.TrimPrefix(body, "\n")))
			assert.Equal(t, strings.TrimSpace(r.Read(".git/patch")), strings.TrimSpace(m.Patch))
		})
	}
}

func TestHowMailsAreRead(t *testing.T) {
	const mail = "From: Ilka Renn <ilka@skerry.example>\nDate: Mon, 29 Dec 2025 10:20:00 +0100\nMessage-Id: <1@skerry.example>\n" +
		"Subject: [PATCH] [fares] Raise\n\nBefore.\n-- >8 --\nAfter.\n---\n"
	const name = "Signed-off-by: Ada Sund <ada@skerry.example>"
	for _, c := range []struct {
		how  Reading
		want string
	}{
		{Reading{}, "Raise\n\nBefore.\n-- >8 --\nAfter.\n"},
		{Reading{KeepSubject: true}, "[PATCH] [fares] Raise\n\nBefore.\n-- >8 --\nAfter.\n"},
		{Reading{KeepOthers: true, Scissors: true}, "[fares] Raise\n\nAfter.\n"},
		{Reading{Scissors: true, MessageID: true, SignOff: name},
			"Raise\n\nAfter.\n\nMessage-Id: <1@skerry.example>\n" + name + "\n"},
	} {
		m, err := ReadMail(mail, c.how)
		require.NoError(t, err)
		assert.Equal(t, c.want, m.Message)
	}
}

// TestPatchesThatCannotBeRead: each says why, and at which line.
func TestPatchesThatCannotBeRead(t *testing.T) {
	const head = "diff --git a/f b/f\n--- a/f\n+++ b/f\n"
	for patch, why := range map[string]string{
		head + "@@ -1,2 +1,2 @@\n a\n":                                      "line 6 of the patch ends in the middle of a hunk",
		head + "@@ -1 +1 @@\n?a\n":                                          "line 5 of the patch is no line of a hunk",
		head + "@@ -1 +x @@\n-a\n":                                          "line 4 of the patch is no head of a hunk",
		head + "@@ -1,1 +1,0 @@\n a\n":                                      "is one more than its hunk says",
		"diff --git a/f b/f\n--- a/f\n":                                     `line 3 of the patch has no line that begins with "+++ "`,
		"diff --git a/x b/y\nold mode 100644\n":                             "does not tell which file is meant",
		"diff --git a/f b/f\nnew mode zzz\n":                                `has the mode "zzz"`,
		"diff --git a/f b/f\nindex 1..2\nBinary files a/f and b/f differ\n": "names a binary file without its content",
		"diff --git a/f b/f\nGIT binary patch\nliteral 4\nzzzz\n":           "is not in base 85",
		"diff --git a/f b/f\nGIT binary patch\n":                            "ends before the content",
		"--- a/../f\n+++ b/../f\n@@ -1 +1 @@\n-a\n+b\n":                     "does not lie in the project",
		"--- a/.GIT/config\n+++ b/.GIT/config\n@@ -1 +1 @@\n-a\n+b\n":       "does not lie in the project",
		"--- f\n+++ f\n@@ -1 +1 @@\n-a\n+b\n":                               "with too few folders to take 1 off",
	} {
		_, err := Parse(patch, 1)
		assert.ErrorContains(t, err, why, patch)
	}
}

// TestVersion: a hunk whose lines are not there goes where they are most alike.
func TestVersion(t *testing.T) {
	hunk := Hunk{At: 3, Before: diff.Lines("c\nd\ne\n"), After: diff.Lines("c\nD\ne\n"), Trail: 1}
	for now, want := range map[string]struct {
		before, after string
		nearly        []Nearly
	}{
		"a\nb\nc\nd\ne\nf\n":          {"a\nb\nc\nd\ne\nf\n", "a\nb\nc\nD\ne\nf\n", nil},
		"0\na\nb\nc\nd\ne\n":          {"0\na\nb\nc\nd\ne\n", "0\na\nb\nc\nD\ne\n", nil},
		"a\nb\nc\nx\ne\nf\n":          {"a\nb\nc\nd\ne\nf\n", "a\nb\nc\nD\ne\nf\n", []Nearly{3}},
		"a\nb\nc\nd\nnew\ne\nf\n":     {"a\nb\nc\nd\ne\nf\n", "a\nb\nc\nD\ne\nf\n", []Nearly{3}},
		"a\nb\nx\n0\n0\nc\n1\ne\nf\n": {"a\nb\nx\n0\n0\nc\nd\ne\nf\n", "a\nb\nx\n0\n0\nc\nD\ne\nf\n", []Nearly{6}},
		"1\n2\n3\n4\n":                {"1\n2\nc\nd\ne\n3\n4\n", "1\n2\nc\nD\ne\n3\n4\n", []Nearly{3}},
		"":                            {"c\nd\ne\n", "c\nD\ne\n", []Nearly{1}},
		"a\nb\nx":                     {"a\nb\nc\nd\ne\nx", "a\nb\nc\nD\ne\nx", []Nearly{3}},
	} {
		before, after, nearly := Version([]Hunk{hunk}, now)
		assert.Equal(t, []string{want.before, want.after}, []string{before, after}, now)
		assert.Equal(t, want.nearly, nearly, now)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("diff --git a/f b/f\nindex 1..2 100644\n--- a/f\n+++ b/f\n@@ -1,2 +1 @@ x\n a\n-b\n\\ No newline at end of file\n")
	f.Add("diff --git a/f b/f\nGIT binary patch\ndelta 3\nKcmZQzWMW`w0RR910006201N;C\n\n")
	f.Add("--- \"a/\\303\\244\"\n+++ b/x\t2025\n@@ -0,0 +1 @@\n+a\n")
	f.Fuzz(func(t *testing.T, text string) {
		files, err := Parse(text, 1)
		if err != nil {
			return
		}
		for _, file := range files {
			before, after, nearly := Version(file.Hunks, text)
			grown, moved := 0, len(nearly) > 0
			for _, h := range file.Hunks {
				grown += lengthy(h.After) - lengthy(h.Before)
				from, _, _ := h.exact(diff.Lines(text), 0, h.At-1)
				moved = moved || from != h.At-1
			}
			assert.Len(t, diff.Lines(after), len(diff.Lines(before))+grown, "no line is joined to another")
			if !moved {
				got, err := Apply(file.Hunks, text)
				require.NoError(t, err)
				assert.Equal(t, after, got)
			}
		}
	})
}

// lengthy is how many lines there are that are not nothing.
func lengthy(lines []string) (n int) {
	for _, line := range lines {
		if line != "" {
			n++
		}
	}
	return n
}
