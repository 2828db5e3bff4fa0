#!/bin/sh
# Puts the roots of @MARK@ into the system's keychain, takes them out, or says whether they
# are there. Run twice it does no more than run once. It touches no other certificate.
#
#   sh trust.sh install [--dry-run] [--report FILE]
#   sh trust.sh remove  [--dry-run] [--report FILE]
#   sh trust.sh check   [--report FILE]
#
# Exit status: 0 done, or all there; 1 failed; 2 wrong usage; 4 (check) not all there.
set -u
LC_ALL=C
export LC_ALL

store=@STORE@
# what this script put into the keychain, by SHA-256: nothing else is taken out by it
state="@STATE@/@MARK@_@SET@.list"
platform=@PLATFORM@

# file and SHA-256 fingerprint of each root, and what it is trusted for where not for all
anchors() {
	cat <<'LIST'
@KEYCHAIN_ANCHORS@
LIST
}

@BEGIN@

command -v security >/dev/null || fail "there is no command security here: this kit is for macOS"
[ "$act" = check ] || [ -n "$dry" ] || [ "$(id -u)" = 0 ] || fail "administrator rights are needed: sudo sh trust.sh $act"

held=$(security find-certificate -a -Z "$store") || fail "$store cannot be read"
held=$(printf '%s\n' "$held" | sed -n 's/^SHA-256 hash: //p' | tr 'A-F' 'a-f')

# there SUM: whether the keychain has it
there() { printf '%s\n' "$held" | grep -q -x -F -e "$1"; }

changed='' done=''
take_out() {
	security remove-trusted-cert -d "$here/$1" && security delete-certificate -Z "$2" "$store" || return 1
	if [ -r "$state" ]; then
		grep -v -x -F -e "$2" "$state" >"$state.new" # status 1 where nothing is left
		mv "$state.new" "$state"
	fi
	[ -s "$state" ] || rm -f "$state"
}

# put SUM: whether this script put it there
put() { [ -r "$state" ] && grep -q -x -F -e "$1" "$state"; }

# undo: what this run put there goes again
undo() {
	for f in $done; do take_out "${f%:*}" "${f#*:}" >/dev/null 2>&1; done
	fail "$* The keychain is as it was."
}

install_one() {
	there "$2" && return 0
	say "install $1"
	changed=yes
	[ -n "$dry" ] && return 0
	done="$done $1:$2"
	sum=$2
	uses=$3
	set -- "$here/$1"
	set -- -d -r trustRoot -k "$store" "$1"
	for use in $uses; do set -- -p "$use" "$@"; done
	security add-trusted-cert "$@" && mkdir -p "${state%/*}" && printf '%s\n' "$sum" >>"$state"
}

remove_one() {
	there "$2" || return 0
	if ! put "$2"; then
		say "leave $1: it was there before, or another kit put it there"
		return 0
	fi
	say "remove $1"
	changed=yes
	[ -n "$dry" ] && return 0
	take_out "$1" "$2"
}

missing=''
check_one() {
	if there "$2"; then
		say "there    $1"
	else
		say "missing  $1"
		missing=yes
		absent="$absent $2"
	fi
}

@EACH@

[ -n "$changed" ] || [ "$act" = check ] || say "nothing to do"

@END@
