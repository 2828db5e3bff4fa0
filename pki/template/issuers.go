package template

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// issuersLine is the line of a template's file that names its issuers. Tables come after it.
var issuersLine = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?m)^[ \t]*issuers[ \t]*=[ \t]*\[[^\]#\n]*\]`)
})

// AddIssuer adds an authority to the issuers in a template's file, where now are those that count today, its
// own or those of the template that it is based on. The rest of the file stays as it is.
func AddIssuer(file []byte, now []string, handle string) ([]byte, error) {
	var list []string
	for _, i := range append(slices.Clone(now), handle) {
		list = append(list, fmt.Sprintf("%q", i))
	}
	line := "issuers  = [" + strings.Join(list, ", ") + "]"
	if at := issuersLine().FindIndex(file); at != nil {
		return slices.Concat(file[:at[0]], []byte(line), file[at[1]:]), nil
	}
	if bytes.Contains(file, []byte("issuers")) {
		return nil, fmt.Errorf("its issuers are not written on one line: add %q to them in its file", handle)
	}
	at := regexp.MustCompile(`(?m)^[ \t]*\[`).FindIndex(file)
	if at == nil {
		return append(append(bytes.TrimRight(file, "\n"), '\n'), []byte(line+"\n")...), nil
	}
	return slices.Concat(file[:at[0]], []byte(line+"\n\n"), file[at[0]:]), nil
}
