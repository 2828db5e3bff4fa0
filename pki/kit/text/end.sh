if [ -n "$report" ]; then
	sums=$(anchors | cut -d ' ' -f 2 | sed 's/.*/"&"/' | tr '\n' ',')
	printf '{"host":"%s","platform":"%s","store":"%s","act":"%s","complete":%s,"sha256":[%s],"when":"%s"}\n' \
		"$(uname -n | tr -c 'A-Za-z0-9.\n-' '?')" "$platform" "$store" "$act" \
		"$([ -z "$missing" ] && echo true || echo false)" "${sums%,}" "$(date -u +%Y-%m-%dT%H:%M:%SZ)" >"$report" ||
		fail "$report cannot be written"
fi
[ -z "$missing" ] || exit 4
