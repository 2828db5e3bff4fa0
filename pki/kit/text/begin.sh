here=$(cd "$(dirname "$0")" && pwd) || exit 1
umask 022 # what is written is for everybody to read
say() { printf '%s\n' "$*"; }
fail() { printf 'trust.sh: %s\n' "$*" >&2; exit 1; }
usage() { grep '^#   sh trust' "$0" | cut -c 3- >&2; exit 2; }

[ $# -ge 1 ] || usage
act=$1
shift
dry='' report=''
while [ $# -gt 0 ]; do
	case $1 in
	--dry-run) dry=yes ;;
	--report) [ $# -ge 2 ] || usage; report=$2; shift ;;
	*) usage ;;
	esac
	shift
done
case $act in install | remove | check) ;; *) usage ;; esac

# SHA-256 of each file that this script reads, as it was packed
packed() {
	cat <<'LIST'
@PACKED@
LIST
}

# hash FILE: its SHA-256
hash() {
	if command -v sha256sum >/dev/null; then
		sha256sum <"$1"
	elif command -v shasum >/dev/null; then
		shasum -a 256 <"$1"
	else
		fail "neither sha256sum nor shasum is here: the files of this kit cannot be compared, and nothing was done"
	fi
}

# Every file is compared before anything is touched or told.
while read -r sum file; do
	[ -r "$here/$file" ] || fail "$file is missing beside this script"
	now=$(hash "$here/$file") || exit 1
	[ "${now%% *}" = "$sum" ] || fail "$file is not the file of this kit: nothing was done. Get the kit again"
done <<LIST
$(packed)
LIST

# shut PATH: whether a file or folder cannot be read by everybody
shut() {
	mode=004
	[ -d "$1" ] && mode=005
	[ -z "$(find "$1" -prune -perm "-$mode" 2>/dev/null)" ]
}
