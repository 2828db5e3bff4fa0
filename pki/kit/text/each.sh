absent=''
while read -r file sum purposes; do
	[ -n "$file" ] || continue
	[ "$act" = remove ] && absent="$absent $sum"
	"${act}_one" "$file" "$sum" "$purposes" && continue
	[ "$act" = install ] && undo "$file could not be installed."
	fail "$file: $act failed"
done <<LIST
$(anchors)
LIST
