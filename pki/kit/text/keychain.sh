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

# ours FILE SUM: whether the file is that of this kit
ours() { [ "$(shasum -a 256 "$here/$1" | cut -d ' ' -f 1)" = "$2" ]; }

changed='' done=''
take_out() { security remove-trusted-cert -d "$here/$1" && security delete-certificate -Z "$2" "$store"; }

# undo: what this run put there goes again
undo() {
	for f in $done; do take_out "${f%:*}" "${f#*:}" >/dev/null 2>&1; done
	fail "$* The keychain is as it was."
}

install_one() {
	ours "$1" "$2" || return 1
	there "$2" && return 0
	say "install $1"
	changed=yes
	[ -n "$dry" ] && return 0
	done="$done $1:$2"
	set -- "$here/$1" "$3"
	uses=$2
	set -- -d -r trustRoot -k "$store" "$1"
	for use in $uses; do set -- -p "$use" "$@"; done
	security add-trusted-cert "$@"
}

remove_one() {
	there "$2" || return 0
	ours "$1" "$2" || return 1
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
