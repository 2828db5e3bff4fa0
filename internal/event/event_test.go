package event

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"ironseal/pki/journal"
)

// Every kind of event is written and read again, and says its version.
func TestEveryEventIsReadAgain(t *testing.T) {
	for act, make := range kinds() {
		t.Run(act, func(t *testing.T) {
			e := make()
			en, err := On("object", e).Entry("a certificate")
			if err != nil {
				t.Fatal(err)
			}
			if en.Act != e.Act() || en.Object != "object" {
				t.Errorf("the entry is %+v", en)
			}
			var fields map[string]any
			if err := json.Unmarshal([]byte(en.Detail), &fields); err != nil || fields["v"] != float64(e.Version()) ||
				fields["known by"] != "a certificate" {
				t.Errorf("%s, %v", en.Detail, err)
			}
			if n := members(t, en.Detail); n != len(fields) {
				t.Errorf("%d members, %d names: %s", n, len(fields), en.Detail)
			}
			again, err := Read(en)
			if err != nil || again == nil {
				t.Fatal(err)
			}
			if _, err := Marks(en); err != nil {
				t.Error(err)
			}
		})
	}
}

// members counts the members of an object, those with one name too.
func members(t *testing.T, object string) (n int) {
	t.Helper()
	d := json.NewDecoder(strings.NewReader(object))
	if _, err := d.Token(); err != nil {
		t.Fatal(err)
	}
	for ; d.More(); n++ {
		if _, err := d.Token(); err != nil {
			t.Fatal(err)
		}
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			t.Fatal(err)
		}
	}
	return n
}

// An entry tells of one request as it always did, or of several.
func TestReceivedTogether(t *testing.T) {
	list := []ReceivedRequest{{"R7", "aa", "a.ternbay.example", "one.pem"},
		{"R8", "bb", "b.ternbay.example", "one.pem"}, {"R9", "cc", "c.ternbay.example", "two.pem"}}
	for n, object := range map[int]string{1: "R7", 2: "R7 and 1 more", 3: "R7 and 2 more"} {
		t.Run(object, func(t *testing.T) {
			en, err := ReceivedOf(list[:n], "the yard")[0].Entry("")
			if err != nil || en.Object != object {
				t.Fatalf("%+v, %v", en, err)
			}
			if alone := !strings.Contains(en.Detail, "others"); alone != (n == 1) ||
				strings.Contains(en.Detail, `"v":1`) != alone {
				t.Errorf("the detail is %s", en.Detail)
			}
			e, err := As[*Received](en)
			if err != nil || e.From != "the yard" {
				t.Fatalf("%+v, %v", e, err)
			}
			var got []ReceivedRequest
			if e.Each(en.Object, func(r ReceivedRequest) { got = append(got, r) }); !reflect.DeepEqual(got, list[:n]) {
				t.Errorf("it tells of %v", got)
			}
		})
	}
}

// An entry does not grow beyond a bound; what comes together is in several then.
func TestEntriesOfVeryMany(t *testing.T) {
	const n = 2*mostTogether + 1
	var received []ReceivedRequest
	var signed []SignedCertificate
	for i := range n {
		number := fmt.Sprintf("R%d", i+1)
		received = append(received, ReceivedRequest{Number: number})
		signed = append(signed, SignedCertificate{Request: number})
	}
	want := []string{"R1 and 249 more", "R251 and 249 more", "R501"}
	for what, records := range map[string][]Record{"received": ReceivedOf(received, ""), "signed": SignedOf(signed)} {
		t.Run(what, func(t *testing.T) {
			var objects []string
			for _, r := range records {
				objects = append(objects, r.Object)
			}
			if !reflect.DeepEqual(objects, want) {
				t.Errorf("%q, want %q", objects, want)
			}
		})
	}
	if len(ReceivedOf(nil, "")) != 0 {
		t.Error("nothing is told of")
	}
}

// What earlier versions wrote is read: each line of the fixtures is an entry of a journal of an earlier form.
func TestEntriesOfEarlierVersionsAreRead(t *testing.T) {
	files, err := filepath.Glob("testdata/*.jsonl")
	if err != nil || len(files) == 0 {
		t.Fatal("there are no fixtures", err)
	}
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			for n, line := range strings.Split(strings.TrimSpace(string(data)), "\n") {
				var en journal.Entry
				if err := json.Unmarshal([]byte(line), &en); err != nil {
					t.Fatal(err)
				}
				e, err := Read(en)
				if err != nil || e == nil {
					t.Errorf("line %d, act %q: %v, %v", n+1, en.Act, e, err)
					continue
				}
				for _, lost := range lostFields(t, en, e) {
					t.Errorf("line %d, act %q: %s is lost", n+1, en.Act, lost)
				}
			}
		})
	}
}

func TestWhichEntryCounts(t *testing.T) {
	at := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	entry := func(seq int64, object string, e Event) journal.Entry {
		en, err := On(object, e).Entry("")
		if err != nil {
			t.Fatal(err)
		}
		en.Seq, en.At = seq, at.Add(time.Duration(seq)*time.Minute)
		return en
	}
	report := func(when time.Time) Event {
		return RootsReported{Platform: "linux", Store: "system", SHA256: []string{"aa"}, When: when}
	}
	for name, c := range map[string]struct {
		entries []journal.Entry
		kind    Kind
		thing   string
		want    int64 // the entry that counts; 0 for none
	}{
		"a party that was changed": {[]journal.Entry{entry(1, "quay", PartyKept{}), entry(2, "quay", PartyKept{})},
			Parties, "quay", 2},
		"since when it is there": {[]journal.Entry{entry(1, "quay", PartyKept{}), entry(2, "quay", PartyKept{})},
			PartiesSince, "quay", 1},
		"a party that was removed": {[]journal.Entry{entry(1, "quay", PartyKept{}), entry(2, "quay", PartyRemoved{})},
			Parties, "quay", 0},
		"a party that came back": {[]journal.Entry{entry(1, "quay", PartyKept{}), entry(2, "quay", PartyRemoved{}),
			entry(3, "quay", PartyKept{})}, PartiesSince, "quay", 3},
		"an older report that comes later": {[]journal.Entry{entry(1, "gate", report(at)),
			entry(2, "gate", report(at.Add(-time.Hour)))}, Reports, ReportName("gate", "linux", "system", "aa"), 1},
		"a report from a clock that is ahead": {[]journal.Entry{entry(1, "gate", report(at.Add(24*time.Hour))),
			entry(2, "gate", report(at.Add(24*time.Hour)))}, Reports, ReportName("gate", "linux", "system", "aa"), 2},
		"an endpoint that is down": {[]journal.Entry{entry(1, "192.0.2.7:443", EndpointObserved{SHA256: "aa"}),
			entry(2, "192.0.2.7:443", EndpointObserved{})}, Servings, "192.0.2.7:443", 1},
		"a folder with an older list": {[]journal.Entry{
			entry(1, "/srv/a", ListsPlaced{Lists: []PlacedList{{List: "root.g1", Number: 9}}}),
			entry(2, "/srv/b", ListsPlaced{Lists: []PlacedList{{List: "root.g1", Number: 8}}})},
			Placements, PlacementName(Scope{List: "root.g1"}), 1},
		"a change-over that was cancelled": {[]journal.Entry{entry(1, "own", ChangeOverPlanned{}),
			entry(2, "own", ChangeOverCancelled{})}, ChangeOvers, "own", 0},
	} {
		t.Run(name, func(t *testing.T) {
			rows := map[string]Row{}
			for _, en := range c.entries {
				marks, err := Marks(en)
				if err != nil {
					t.Fatal(err)
				}
				for _, m := range marks {
					key := string(m.Kind) + "\x00" + m.Name
					before, there := rows[key]
					delete(rows, key)
					if row, keep := m.Apply(en.Seq, before, there); keep {
						rows[key] = row
					}
				}
			}
			if got := rows[string(c.kind)+"\x00"+c.thing].Seq; got != c.want {
				t.Errorf("entry %d counts, and should be %d", got, c.want)
			}
		})
	}
}

// lostFields are what an entry tells and the event does not, empty fields left out.
func lostFields(t *testing.T, en journal.Entry, e Event) (out []string) {
	t.Helper()
	var told map[string]any
	if json.Unmarshal([]byte(en.Detail), &told) != nil {
		return nil // a sentence
	}
	again, err := On(en.Object, e).Entry("")
	if err != nil {
		t.Fatal(err)
	}
	var kept map[string]any
	if err := json.Unmarshal([]byte(again.Detail), &kept); err != nil {
		t.Fatal(err)
	}
	for name, v := range told {
		counted := name == "links" && reflect.TypeOf(v).Kind() == reflect.Float64
		if !empty(v) && !counted && !reflect.DeepEqual(v, kept[name]) {
			out = append(out, fmt.Sprintf("%s (%v, and %v is kept)", name, v, kept[name]))
		}
	}
	return out
}

func empty(v any) bool {
	switch x := v.(type) {
	case nil:
		return true
	case []any:
		return len(x) == 0
	case map[string]any:
		return len(x) == 0
	}
	return v == "" || v == false || v == float64(0)
}
