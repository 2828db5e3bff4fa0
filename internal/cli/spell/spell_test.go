package spell

import (
	"errors"
	"fmt"
	"testing"

	"ironseal/internal/term"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
)

func TestStepsAreSpelled(t *testing.T) {
	for name, c := range map[string]struct {
		step advice.Step
		want string
	}{
		"a value":           {advice.To("", advice.ShowRequest, "request", "R7"), "ironseal request show R7"},
		"a value to choose": {advice.To("", advice.ShowRequest), "ironseal request show REQUEST"},
		"an option": {advice.To("", advice.RenewCertificate, "certificate", "1f", "request", "R7"),
			"ironseal certificate renew 1f --request R7"},
		"an option to choose": {advice.To("", advice.RenewCertificate, "request", advice.Asked),
			"ironseal certificate renew CERTIFICATE --request REQUEST"},
		"an option that is left out": {advice.To("", advice.RenewCertificate, "certificate", "1f"),
			"ironseal certificate renew 1f"},
		"a flag": {advice.To("", advice.CheckEstate, "move-aside", ""), "ironseal estate check " +
			"--move-aside"},
		"several values": {advice.To("", advice.Revoke, "certificate", "1f\n2e"), "ironseal revoke 1f 2e"},
		"a choice within an act": {advice.To("", advice.AddName, "name", "a.ternbay.example"), "--add-name " +
			"a.ternbay.example"},
		"a path with blanks": {advice.To("", advice.Read, "file", "a b.pem"), "ironseal read 'a b.pem'"},
		"a word to replace": {advice.To("", advice.PublishLists, "folder", "DIR"), "ironseal revocations " +
			"publish --to DIR"},
		"words alone": {advice.Say("keep it"), ""},
	} {
		t.Run(name, func(t *testing.T) {
			if got := (Speller{Shell: term.POSIX}).Command(c.step); got != c.want {
				t.Errorf("it is %q, and should be %q", got, c.want)
			}
		})
	}
}

func TestAnErrorIsFollowedByWhatToDo(t *testing.T) {
	inner := fault.New(fault.NotFound, "R9: there is no such request").Then(advice.To("see them", advice.ListRequests))
	for name, c := range map[string]struct {
		err  error
		want string
	}{
		"a fault": {inner, "R9: there is no such request: see them: ironseal request list"},
		"a wrapped fault": {fmt.Errorf("row 3: %w", inner), "row 3: R9: there is no such request: see them: " +
			"ironseal request list"},
		"another error": {errors.New("no"), "no"},
	} {
		t.Run(name, func(t *testing.T) {
			if got := (Speller{Shell: term.POSIX}).Error(c.err); got != c.want {
				t.Errorf("it is %q, and should be %q", got, c.want)
			}
		})
	}
}
