package git

import (
	"bytes"
	"context"
	"fmt"
	"strings"

	"dorvik.dev/dorvik/internal/core/object"
)

// SignsCommits reports whether the person signs commits.
func (r *Configuration) SignsCommits(ctx context.Context) (bool, error) {
	return r.Flag(ctx, "commit.gpgSign")
}

// SignCommit makes a signed copy of a commit, by the person's settings (user.signingKey, gpg.format and so on), and
// returns its id. The repository must contain its tree and parents.
func (r *Objects) SignCommit(ctx context.Context, c *object.Commit) (object.ID, error) {
	for _, h := range c.Extra {
		if h.Key != "encoding" {
			return object.ID{}, fmt.Errorf("the commit “%s” has a header %q, which git would drop in signing; set "+
				"commit.gpgSign to false for this join", c.Subject(), h.Key)
		}
	}
	encoding := c.Encoding()
	if encoding == "" {
		encoding = "UTF-8"
	}
	args := []string{"-c", "i18n.commitEncoding=" + encoding, "commit-tree", "-S", c.Tree.String()}
	for _, p := range c.Parents {
		args = append(args, "-p", p.String())
	}
	cmd := command(ctx, r.Dir, args)
	for _, who := range []struct {
		role string
		object.Signature
	}{{"AUTHOR", c.Author()}, {"COMMITTER", c.Committer}} {
		cmd.Env = append(cmd.Env, "GIT_"+who.role+"_NAME="+who.Name, "GIT_"+who.role+"_EMAIL="+who.Email,
			fmt.Sprintf("GIT_%s_DATE=@%d %s", who.role, who.When, who.Zone))
	}
	var out, words bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(c.Message), &out, &words
	if err := cmd.Run(); err != nil {
		return object.ID{}, failure(ctx, call{doing: "signing “" + c.Subject() + "”", args: args}, words.String(), err)
	}
	id, err := object.ParseID(strings.TrimSpace(out.String()))
	if err != nil {
		return id, fmt.Errorf("signing “%s”: %w", c.Subject(), err)
	}
	_, data, err := r.Read(ctx, id)
	if err != nil {
		return id, err
	}
	signed, err := object.ParseCommit(data)
	if err != nil {
		return id, err
	}
	if signed.AuthorLine != c.AuthorLine || signed.Message != c.Message || signed.Committer != c.Committer ||
		signed.Encoding() != c.Encoding() {
		return id, fmt.Errorf("git would change the author or the message of “%s” in signing it; set commit.gpgSign "+
			"to false for this join", c.Subject())
	}
	return id, nil
}
