#!/bin/sh
# The rules of the stand-in host. It sets the variables in capitals.
none=$(git hash-object --stdin </dev/null | tr 0-9a-f 0)
has() { case " $2 " in *" $1 "*) return 0 ;; esac; return 1; }

# check COMMIT: runs the required check on the files of a commit.
check() {
	dir=$(mktemp -d) || exit 1
	GIT_INDEX_FILE=$dir/index git read-tree "$1" &&
		GIT_INDEX_FILE=$dir/index git --work-tree="$dir" checkout-index -a --prefix="$dir/files/" || exit 1
	echo "The required check runs: $HOST_CHECK"
	(unset $(git rev-parse --local-env-vars) GIT_QUARANTINE_PATH; cd "$dir/files" && sh -c "$HOST_CHECK") >"$dir/out" 2>&1
	passed=$?
	[ $passed = 0 ] || tail -n 12 "$dir/out"
	rm -rf "$dir"
	return $passed
}

# A lock of a file is a commit at refs/locks/: its author has it, and its message has the path and the reason.
path_of() { git cat-file commit "$1" | sed '1,/^$/d' | sed -n 1p; }
holder_of() { git log -1 --format=%an "$1"; }

# locked NEW: names a file that new commits change and that somebody else has locked.
locked() {
	for lock in $(git for-each-ref --format='%(objectname)' refs/locks/); do
		path=$(path_of "$lock") holder=$(holder_of "$lock")
		[ "$holder" != "$HOST_NAME" ] || continue
		[ -n "$(git log -1 --format=%h "$1" --not --all -- ":(top,literal)$path")" ] || continue
		echo "$path is locked by $holder since $(git log -1 --format=%ad --date=format:'%d %b %Y, %H:%M' "$lock")"
		return 0
	done
	return 1
}

while read -r old new ref; do
	case $ref in
	refs/locks/*)
		if [ "$old" != "$none" ] && [ "$(holder_of "$old")" != "$HOST_NAME" ] &&
			! has "$HOST_USER" "$HOST_MAINTAINERS"; then
			echo "The lock of $(path_of "$old") is $(holder_of "$old")'s: only a maintainer takes it from others."
			exit 1
		fi
		continue ;;
	refs/heads/*) branch=${ref#refs/heads/} ;;
	refs/proposals/*)
		echo "Proposals are put forward on the page, and follow their branch by themselves."
		exit 1 ;;
	*) continue ;;
	esac
	if has "$branch" "$HOST_PROTECTED"; then
		if ! has "$HOST_USER" "$HOST_MAINTAINERS"; then
			echo "$branch is a protected branch: put a proposal forward instead, at $HOST_PAGE"
			exit 1
		fi
		lost=$old
		[ "$old" = "$none" ] || [ "$new" = "$none" ] || lost=$(git rev-list -1 "$new..$old")
		if [ -n "$lost" ] && [ "$lost" != "$none" ]; then
			echo "$branch is a protected branch: its commits are never taken out."
			exit 1
		fi
	fi
	[ "$new" != "$none" ] || continue
	if locked "$new"; then
		exit 1
	fi
	if [ -n "$HOST_MESSAGE" ]; then
		for c in $(git rev-list --no-merges "$new" --not --all); do
			git cat-file commit "$c" | sed '1,/^$/d' | sed -n 1p | grep -Eq -- "$HOST_MESSAGE" && continue
			echo "$(git rev-parse --short "$c"): the commit message must match $HOST_MESSAGE"
			exit 1
		done
	fi
	if [ "${HOST_BYTES:-0}" -gt 0 ]; then
		large=$(git rev-list --objects "$new" --not --all |
			git cat-file --batch-check='%(objecttype) %(objectsize) %(rest)' |
			awk -v most="$HOST_BYTES" '$1 == "blob" && $2 > most { sub(/^[^ ]* [^ ]* /, ""); print; exit }')
		if [ -n "$large" ]; then
			echo "$large is larger than the maximum of $HOST_BYTES bytes"
			exit 1
		fi
	fi
	if [ -n "$HOST_CHECK" ] && has "$branch" "$HOST_PROTECTED" && ! check "$new"; then
		echo "$branch takes only what passes “$HOST_CHECK”."
		exit 1
	fi
done
