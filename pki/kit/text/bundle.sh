#!/bin/sh
# Gives the roots of @MARK@ to programs that read a bundle file named by a variable
# (@VARIABLES@), takes them away, or says whether they are there. Run twice it does no
# more than run once. It touches nothing but its own files.
#
#   sh trust.sh install [--dry-run] [--report FILE]
#   sh trust.sh remove  [--dry-run] [--report FILE]
#   sh trust.sh check   [--report FILE]
#
# Exit status: 0 done, or all there; 1 failed; 2 wrong usage; 4 (check) not all there.
set -u
LC_ALL=C
export LC_ALL

dir=@DIR@
profiles=@PROFILES@
platform=@PLATFORM@
piece=$dir/@MARK@_@SET@_$platform.pem
store=$dir/@MARK@_all.$platform.pem
profile=$profiles/@MARK@-$platform.sh
with_public=@PUBLIC@

# file and SHA-256 fingerprint of each root
anchors() {
	cat <<'LIST'
@ANCHORS@
LIST
}

# what a shell reads when someone logs in
lines() {
	cat <<'LINES'
@LINES@
LINES
}

@BEGIN@

# public: the system's own roots, which a program that reads a bundle would lose otherwise
public() {
	[ -n "$with_public" ] || return 0
	for f in @SYSTEM@; do
		[ -r "$f" ] && cat "$f" && return 0
	done
	fail "none of @SYSTEM@ is here: the public roots would be lost"
}

# whole: the public roots, and those of every kit of ours for this platform
whole() {
	public || return 1
	for f in "$dir"/@MARK@_*_"$platform.pem"; do
		[ -r "$f" ] && cat "$f"
	done
	return 0
}

# closed: the first of our files and folders that only some users can read; a program that is told of
# a bundle which it cannot read trusts no one
closed() {
	for f in "$dir" "$store" "$profile"; do
		if [ -e "$f" ] && shut "$f"; then
			printf '%s' "$f"
			return 0
		fi
	done
	return 1
}

missing='' changed=''
# put FILE: standard input becomes the file, unless it is so already
put() {
	cat >"$1.new" || return 1
	if cmp -s "$1.new" "$1"; then
		rm -f "$1.new"
		chmod 644 "$1"
	else
		chmod 644 "$1.new" && mv "$1.new" "$1"
	fi
}

rebuild() {
	if ! whole >"$store.part" || ! put "$store" <"$store.part"; then
		fail "$store cannot be written"
	fi
	rm -f "$store.part"
}

install_all() {
	if cmp -s "$here/roots.pem" "$piece" && whole | cmp -s - "$store" && lines | cmp -s - "$profile" && ! closed; then
		return 0
	fi
	say "install $piece"
	say "write $store"
	say "write $profile"
	changed=yes
	[ -n "$dry" ] && return 0
	public >/dev/null # before the first change
	[ -w "$profiles" ] || fail "$profiles cannot be written: are administrator rights needed?"
	if ! mkdir -p "$dir" || ! chmod a+rx "$dir" || ! put "$piece" <"$here/roots.pem"; then
		fail "$piece cannot be written: are administrator rights needed?"
	fi
	rebuild
	lines | put "$profile" || fail "$profile cannot be written: are administrator rights needed?"
}

remove_all() {
	[ -e "$piece" ] || return 0
	say "remove $piece"
	changed=yes
	[ -n "$dry" ] && return 0
	rm -f "$piece" || fail "$piece cannot be removed: are administrator rights needed?"
	for f in "$dir"/@MARK@_*_"$platform.pem"; do
		if [ -e "$f" ]; then
			say "keep $store: another kit's roots are in it"
			rebuild
			return 0
		fi
	done
	say "remove $store"
	rm -f "$store" "$profile" || fail "$store cannot be removed"
	rmdir "$dir" 2>/dev/null || true
}

check_all() {
	if ! cmp -s "$here/roots.pem" "$piece"; then
		say "missing  $piece"
		missing=yes
	elif ! whole | cmp -s - "$store"; then
		say "stale    $store: the public roots or ours changed since; install again"
		missing=yes
	elif ! lines | cmp -s - "$profile"; then
		say "missing  $profile"
		missing=yes
	elif shut=$(closed); then
		say "closed   $shut: not every user can read it; install again"
		missing=yes
	else
		say "there    $store"
	fi
}

"${act}_all"
absent=''
if [ -n "$missing" ] || [ "$act" = remove ]; then absent=$(anchors | cut -d ' ' -f 2); fi
[ -n "$changed" ] || [ "$act" = check ] || say "nothing to do"

@END@
