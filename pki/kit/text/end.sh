if [ -n "$report" ]; then
	sums=$(anchors | cut -d ' ' -f 2 | sed 's/.*/"&"/' | tr '\n' ',')
	lacks=$(for sum in $absent; do printf '"%s",' "$sum"; done)
	printf '{"host":"%s","platform":"%s","store":"%s","act":"%s","complete":%s,"sha256":[%s],"missing":[%s],"when":"%s"}\n' \
		"$(uname -n | tr -c 'A-Za-z0-9.\n-' '?')" "$platform" "$store" "$act" \
		"$([ -z "$absent" ] && echo true || echo false)" "${sums%,}" "${lacks%,}" "$(date -u +%Y-%m-%dT%H:%M:%SZ)" >"$report" ||
		fail "$report cannot be written"
fi
[ -z "$missing" ] || exit 4
