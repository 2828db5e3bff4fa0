package lifecycle

import (
	"strings"
	"testing"
)

func TestRequestsMoveByTheTable(t *testing.T) {
	all := []RequestState{Waiting, Signed, Declined, Withdrawn, Sent}
	allowed := map[[2]RequestState]bool{
		{Waiting, Signed}: true, {Waiting, Declined}: true, {Waiting, Withdrawn}: true, {Waiting, Sent}: true,
		{Sent, Signed}: true, {Sent, Declined}: true, {Sent, Withdrawn}: true, {Sent, Sent}: true,
	}
	for _, from := range all {
		for _, to := range all {
			t.Run(string(from)+" to "+string(to), func(t *testing.T) {
				if from.CanBecome(to) != allowed[[2]RequestState{from, to}] {
					t.Errorf("CanBecome says %v", from.CanBecome(to))
				}
			})
		}
	}
}

func TestEveryStateIsInTheTable(t *testing.T) {
	page := Reference()
	for _, s := range States() {
		t.Run(string(s), func(t *testing.T) {
			if !strings.Contains(page, "| `"+string(s)+"` |") {
				t.Errorf("the page has no row for it")
			}
			if s.Serves() && s.Rejected() {
				t.Errorf("a certificate that serves is not rejected")
			}
		})
	}
}
