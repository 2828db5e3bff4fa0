here=$(cd "$(dirname "$0")" && pwd) || exit 1
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
