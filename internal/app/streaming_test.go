package app_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironseal/internal/app/requests/intake"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/bundle"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/lifecycle"
	"ironseal/pki/specimen"
)

// A long file of requests is received a part at a time. What is wrong in it is told by its line in the file, and keeps
// nothing else out; what comes twice is received once.
func TestALongFileIsReceivedInParts(t *testing.T) {
	t.Parallel()
	_, e := bareEstate(t, "Tern Bay Ferries")
	const kinds = 40
	var blocks []string
	for i := range kinds {
		host := fmt.Sprintf("h%d.ternbay.example", i)
		blocks = append(blocks, string(bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN="+host,
			[]string{host}).Raw)))
	}
	var text strings.Builder
	filler := strings.Repeat("a line of somebody's mail, which says nothing of a request\n", 900)
	for i := range 4 * kinds {
		text.WriteString(filler[:len(filler)/2])
		text.WriteString(blocks[i%kinds])
	}
	badLine := strings.Count(text.String(), "\n") + 1
	text.WriteString("-----BEGIN CERTIFICATE REQUEST-----\nMAA=\n-----END CERTIFICATE REQUEST-----\n")
	text.WriteString(filler)
	last := bundle.PEM(bundle.Request, specimen.Request(t, nil, "CN=last.ternbay.example",
		[]string{"last.ternbay.example"}).Raw)
	lastLine := strings.Count(text.String(), "\n") + 1
	text.Write(last)
	path := filepath.Join(t.TempDir(), "long.pem")
	must0(t, os.WriteFile(path, []byte(text.String()), 0o600))
	if text.Len() < 3<<20 {
		t.Fatalf("%d octets are not many", text.Len())
	}
	var got []intake.Received
	var faults []error
	parts := 0
	must0(t, intake.Stream(ctx, e, []intake.Source{intake.SourceOf(path, nil)}, "the yard", func(p intake.Part) error {
		parts++
		got, faults = append(got, p.Received...), append(faults, p.Faults...)
		return nil
	}))
	fresh := 0
	for _, r := range got {
		if !r.Known {
			fresh++
		}
		if r.Record.State != lifecycle.Waiting || r.Record.Sender != "the yard" || r.Record.Number == 0 {
			t.Errorf("%+v", r.Record)
		}
	}
	if parts < 2 || len(got) != 4*kinds+1 || fresh != kinds+1 {
		t.Errorf("%d parts, %d received, %d of them new", parts, len(got), fresh)
	}
	if want := fmt.Sprintf("%s:%d", path, badLine); len(faults) != 1 || !strings.Contains(faults[0].Error(), want) {
		t.Errorf("%v: it should name %s", faults, want)
	}
	if want := fmt.Sprintf("%s:%d", path, lastLine); got[len(got)-1].Source != want {
		t.Errorf("the last came from %s, and not from %s", got[len(got)-1].Source, want)
	}
	waiting, err := e.Records.Requests(ctx, lifecycle.Waiting)
	must0(t, err)
	if len(waiting) != kinds+1 {
		t.Errorf("%d wait", len(waiting))
	}
	// One entry tells of several, each with its number.
	entries, told := 0, map[string]string{}
	must0(t, e.Records.EntriesOf(ctx, event.Received{}.Act(), func(en journal.Entry) error {
		entries++
		r, err := event.As[*event.Received](en)
		if err == nil {
			r.Each(en.Object, func(one event.ReceivedRequest) { told[one.Number] = one.Title })
		}
		return err
	}))
	for _, r := range waiting {
		if told[fmt.Sprintf("R%d", r.Number)] != r.Title {
			t.Errorf("the journal says %q of R%d, which is %s", told[fmt.Sprintf("R%d", r.Number)], r.Number, r.Title)
		}
	}
	if entries > parts || len(told) != kinds+1 {
		t.Errorf("%d entries tell of %d requests", entries, len(told))
	}
	if f := checked(t, e.Dir); len(f) > 0 {
		t.Errorf("not sound: %v", f)
	}
	t.Run("stopped", func(t *testing.T) {
		_, e := bareEstate(t, "Tern Bay Ferries")
		stopping, stop := context.WithCancelCause(ctx)
		recorded := 0
		err := intake.Stream(stopping, e, []intake.Source{intake.SourceOf(path, nil)}, "", func(p intake.Part) error {
			recorded += len(p.Received)
			stop(fault.New(fault.Refused, "enough"))
			return nil
		})
		if !errors.Is(err, fault.Refused) || err.Error() != "enough" || recorded == 0 || recorded >= 4*kinds {
			t.Errorf("%d were received, %v", recorded, err)
		}
	})
	t.Run("nobody can be told", func(t *testing.T) {
		_, e := bareEstate(t, "Tern Bay Ferries")
		recorded := 0
		err := intake.Stream(ctx, e, []intake.Source{intake.SourceOf(path, nil)}, "", func(p intake.Part) error {
			recorded += len(p.Received)
			return errors.New("the pipe is closed")
		})
		if err == nil || err.Error() != "the pipe is closed" || recorded == 0 || recorded >= 4*kinds {
			t.Errorf("%d were received, %v", recorded, err)
		}
	})
	t.Run("what is no text of requests", func(t *testing.T) {
		path := filepath.Join(t.TempDir(), "long.bin")
		must0(t, os.WriteFile(path, make([]byte, 20<<20), 0o600))
		if err := intake.Stream(ctx, e, []intake.Source{intake.SourceOf(path, nil)}, "",
			func(intake.Part) error { return nil }); err == nil {
			t.Error("it was read to its end")
		}
	})
}

// What lists tell of a certificate stands in columns: they say what the certificate says, a page at a time too.
func TestLinesTellWhatCertificatesSay(t *testing.T) {
	t.Parallel()
	_, e, _ := signed(t, 7)
	var lines []store.Line
	must0(t, e.Records.EachLine(ctx, store.LineAsk{Names: true}, func(l *store.Line) error {
		lines = append(lines, *l)
		return nil
	}))
	whole, err := e.Certificates(ctx)
	must0(t, err)
	if len(lines) != len(whole) {
		t.Fatalf("%d lines of %d certificates", len(lines), len(whole))
	}
	for _, h := range whole {
		want := h.Line()
		found := false
		for _, l := range lines {
			if l.ID == want.ID {
				found = l == want.Line
				if !found {
					t.Errorf("the records tell %+v, and the certificate %+v", l, want.Line)
				}
			}
		}
		if !found {
			t.Errorf("%s has no line", h.Title())
		}
	}
	var paged []store.Line
	for after := int64(0); ; {
		n := len(paged)
		must0(t, e.Records.EachLine(ctx, store.LineAsk{After: after, Limit: 3, Names: true}, func(l *store.Line) error {
			paged = append(paged, *l)
			return nil
		}))
		if len(paged) == n {
			break
		}
		after = paged[len(paged)-1].ID
	}
	if fmt.Sprint(paged) != fmt.Sprint(lines) {
		t.Errorf("pages differ from the list:\n%v\n%v", paged, lines)
	}
	key := whole[3].Key.Fingerprint()
	for _, digits := range []string{fmt.Sprintf("%x", key), fmt.Sprintf("%x", key)[:5]} {
		n := 0
		must0(t, e.Records.EachLine(ctx, store.LineAsk{Key: digits}, func(l *store.Line) error {
			if l.ID == whole[3].Record.ID {
				n++
			}
			return nil
		}))
		if n != 1 {
			t.Errorf("the key %s is found %d times", digits, n)
		}
	}
	holders, err := e.Records.HoldersAmong(ctx, []int64{whole[3].Record.ID, whole[4].Record.ID})
	must0(t, err)
	for _, h := range whole[3:5] {
		one, err := e.Holders(ctx, h)
		must0(t, err)
		if fmt.Sprint(one) != fmt.Sprint(holders[h.Record.ID]) {
			t.Errorf("%s is held by %v, or by %v", h.Title(), one, holders[h.Record.ID])
		}
	}
}
