package settle

import (
	"maps"
	"path"
	"slices"
	"strings"

	"dorvik.dev/dorvik/internal/core/diff"
	"dorvik.dev/dorvik/internal/core/lang"
)

// care is what a person has to decide whatever the texts say: two edits about it are never joined into a suggestion.
// Its lists are words in lower case, separated by blanks; an underscore joins words that stand together.
type care struct {
	about string
	files string // words of names of files that are about it
	data  string // the same for files of settings and tables alone
	words string // words of the lines that differ
	shell string // the same for commands alone
}

// cares is the table of them.
var cares = []care{
	{
		about: "rights",
		files: "codeowners owners sudoers rules role roles permission permissions policy policies acl acls " +
			"rbac admin admins members maintainers firewall iam",
		words: "grant grants granted revoke revokes allow allows allowed allowlist allow_list whitelist " +
			"blacklist deny denies denied denylist permit permits permitted permission permissions " +
			"privilege privileges roles admin admins acl acls cidr ingress egress sudo principal " +
			"authorized authorised trusted",
	},
	{
		about: "money",
		data: "fare fares price prices pricing rates tariff tariffs fee fees tax taxes vat discount " +
			"discounts salary salaries invoice invoices payment payments",
		words: "price prices fee fees tax taxes vat discount discounts refund refunds salary invoice " +
			"invoices surcharge surcharges interest",
	},
	{
		about: "what is deleted, and when",
		words: "retention retain expire expires expiry expiration ttl max_age keep_days purge purges prune " +
			"truncate drop_table delete_from lifecycle",
		shell: "rm rmdir delete unlink shred mkfs",
	},
	{
		about: "secrets and digests",
		files: "htpasswd pem crt key asc secret secrets credentials tls ssl",
		words: "secret secrets password passwords passwd passphrase api_key private_key public_key " +
			"secret_key access_key signing_key access_token auth_token api_token bearer_token " +
			"refresh_token sha1 sha256 sha512 md5 digest checksum fingerprint certificate certificates " +
			"cipher ciphers ssl tls",
	},
	{
		about: "limits",
		data:  "quota quotas limits",
		words: "quota quotas rate_limit rate_limits max_connections max_size",
	},
}

// wordsOf returns the words of the names in texts, and each two that stand together.
func wordsOf(texts ...string) map[string]bool {
	out := map[string]bool{}
	for _, text := range texts {
		last := ""
		for w := range diff.NameWords(text) {
			if out[w] = true; last != "" {
				out[last+"_"+w] = true
			}
			last = w
		}
	}
	return out
}

// anyOf reports whether one of a list of words is there.
func anyOf(list string, words map[string]bool) bool {
	return slices.ContainsFunc(strings.Fields(list), func(w string) bool { return words[w] })
}

// careOf returns what a person has to decide about a place, or an empty string.
func (q *Question) careOf(at place) string {
	language := lang.Of(at.path)
	name := wordsOf(path.Base(at.path))
	data := language.Is(lang.Settings) || language == lang.CSV
	differ := wordsOf(q.Base, q.Yours, q.Theirs)
	if language.Is(lang.Settings) || language == lang.HCL {
		maps.Copy(differ, wordsOf(at.opener()))
	}
	commands := slices.Contains(commanding, language)
	for _, c := range cares {
		if commands && anyOf(c.shell, differ) || anyOf(c.files, name) || data && anyOf(c.data, name) || !language.Is(
			lang.Prose) && anyOf(c.words, differ) {
			return c.about
		}
	}
	return ""
}
