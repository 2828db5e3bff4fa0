#!/bin/sh
# Puts the roots of @MARK@ into this system's store, takes them out, or says whether they
# are there. Run twice it does no more than run once. It touches nothing but its own files.
#
#   sh trust.sh install [--dry-run] [--report FILE]
#   sh trust.sh remove  [--dry-run] [--report FILE]
#   sh trust.sh check   [--report FILE]
#
# Exit status: 0 done, or all there; 1 failed; 2 wrong usage; 4 (check) not all there.
set -u
LC_ALL=C
export LC_ALL
PATH=$PATH:/usr/sbin:/sbin

store=@STORE@
bundle=@BUNDLE@
mark=@MARK@_@SET@_
platform=@PLATFORM@
refresh() { @UPDATE@; }
refresh_after_removal() { @UPDATE_AFTER@; }

# file and SHA-256 fingerprint of each root
anchors() {
	cat <<'LIST'
@ANCHORS@
LIST
}

@BEGIN@

[ -d "$store" ] || fail "there is no $store here: this kit is for another system"
[ "$act" = check ] || [ -n "$dry" ] || [ -w "$store" ] || fail "$store cannot be written: administrator rights are needed"

# body FILE: the base 64 of the first certificate in it, in one line
body() { sed -n '/-----BEGIN/,/-----END/p' "$1" | sed '/-----END/q' | grep -v -e '-----' | tr -d ' \r\n'; }

# listed FILE: whether the system's own bundle has the certificate
listed() { [ -r "$bundle" ] && tr -d ' \r\n' <"$bundle" | grep -q -F -e "$(body "$1")"; }

changed='' done='' gone=''
# undo: what this run put there goes again, and what it replaced comes back
undo() {
	for f in $done; do
		if [ -e "$store/.$f.old" ]; then mv "$store/.$f.old" "$store/$f"; else rm -f "$store/$f"; fi
	done
	rm -f "$store"/.*.new
	gone=$done
	refresh_after_removal >/dev/null 2>&1
	fail "$* The store is as it was."
}

install_one() {
	if [ -f "$store/$1" ] && cmp -s "$here/$1" "$store/$1" && ! shut "$store/$1"; then
		return 0
	fi
	say "install $store/$1"
	changed=yes
	[ -n "$dry" ] && return 0
	if [ -e "$store/$1" ]; then cp -p "$store/$1" "$store/.$1.old" || return 1; fi
	cp "$here/$1" "$store/.$1.new" && chmod 644 "$store/.$1.new" && mv "$store/.$1.new" "$store/$1" && done="$done $1"
}

remove_one() {
	[ -e "$store/$1" ] || return 0
	if ! cmp -s "$here/$1" "$store/$1"; then
		say "leave $store/$1: it is not the file of this kit"
		return 0
	fi
	say "remove $store/$1"
	changed=yes
	[ -n "$dry" ] && return 0
	rm -f "$store/$1" && gone="$gone $1"
}

missing=''
check_one() {
	lacked=$missing
	missing=''
	look "$1"
	[ -z "$missing" ] || absent="$absent $2"
	missing=$missing$lacked
}

look() {
	if [ ! -f "$store/$1" ]; then
		say "missing  $1"
		missing=yes
	elif ! cmp -s "$here/$1" "$store/$1"; then
		say "differs  $1"
		missing=yes
	elif shut "$store/$1" || shut "$store" || { [ -e "$bundle" ] && shut "$bundle"; }; then
		say "closed   $1: not every user can read it, $store or $bundle; install again"
		missing=yes
	elif ! listed "$here/$1"; then
		say "unlisted $1: it is in $store, and not in $bundle"
		missing=yes
	else
		say "there    $1"
	fi
}

stale() {
	for f in "$store/$mark"*; do
		[ -e "$f" ] || continue
		name=${f##*/}
		anchors | cut -d ' ' -f 1 | grep -q -x -F -e "$name" || say "stale    $name: it is of an earlier kit"
	done
}

@EACH@

case $act in
check) stale ;;
install) [ -z "$changed" ] || [ -n "$dry" ] || refresh >/dev/null || undo "The system's own update failed." ;;
remove) [ -z "$changed" ] || [ -n "$dry" ] || refresh_after_removal >/dev/null || fail "the system's own update failed" ;;
esac
for f in $done; do rm -f "$store/.$f.old"; done
[ -n "$changed" ] || [ "$act" = check ] || say "nothing to do"

@END@
