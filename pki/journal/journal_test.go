package journal

import (
	"errors"
	"testing"
	"time"
)

func TestHeadsAreReadAsPeopleWriteThem(t *testing.T) {
	want := Head{Seq: 12, Code: "7K2M-9QXT-04HB-W3ZE"}
	for _, s := range []string{"J12:7K2M-9QXT-04HB-W3ZE", " j12:7k2m 9qxt o4hb w3ze ", "12:7K2M9QXT04HBW3ZE"} {
		if got, err := ParseHead(s); err != nil || got != want {
			t.Errorf("%q: %s %v", s, got, err)
		}
	}
	for _, s := range []string{"", "J12", "J0:7K2M-9QXT-04HB-W3ZE", "J12:7K2M", "x:7K2M-9QXT-04HB-W3ZE"} {
		if got, err := ParseHead(s); err == nil {
			t.Errorf("%q gives %s", s, got)
		}
	}
}

// Whatever is changed in a journal, its verification names the entry.
func TestEveryChangeBreaksTheChain(t *testing.T) {
	chain := func() []Entry {
		var list []Entry
		var last Entry
		for i := range 5 {
			last = Entry{At: time.Date(2030, 1, 1, i, 0, 0, 0, time.UTC), Actor: "kim", Act: "sign", Object: "R1",
				Detail: "{}"}.After(last)
			list = append(list, last)
		}
		return list
	}
	verify := func(list []Entry, known *Head) (Head, error) {
		v := Verifier{Known: known}
		for _, e := range list {
			if err := v.Add(e); err != nil {
				return Head{}, err
			}
		}
		return v.End()
	}
	head, err := verify(chain(), nil)
	if err != nil || head.Seq != 5 || head != chain()[4].Head() {
		t.Fatal(head, err)
	}
	for name, c := range map[string]struct {
		change func([]Entry) []Entry
		at     int64
	}{
		"a time":             {func(l []Entry) []Entry { l[2].At = l[2].At.Add(1); return l }, 3},
		"an actor":           {func(l []Entry) []Entry { l[2].Actor = "sam"; return l }, 3},
		"an act":             {func(l []Entry) []Entry { l[0].Act = "decline"; return l }, 1},
		"an object":          {func(l []Entry) []Entry { l[4].Object = "R2"; return l }, 5},
		"a detail":           {func(l []Entry) []Entry { l[1].Detail = ""; return l }, 2},
		"a hash":             {func(l []Entry) []Entry { l[1].Hash = l[0].Hash; return l }, 2},
		"one gone":           {func(l []Entry) []Entry { return append(l[:2:2], l[3:]...) }, 4},
		"the first gone":     {func(l []Entry) []Entry { return l[1:] }, 2},
		"two exchanged":      {func(l []Entry) []Entry { l[1], l[2] = l[2], l[1]; return l }, 3},
		"linked again":       {func(l []Entry) []Entry { l[3] = l[3].After(l[1]); return l }, 3},
		"the end cut off":    {func(l []Entry) []Entry { return l[:4] }, 4},
		"nothing left":       {func([]Entry) []Entry { return nil }, 0},
		"one more was there": {func(l []Entry) []Entry { return l[:3] }, 3},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := verify(c.change(chain()), &head)
			var broken *Break
			if !errors.As(err, &broken) || broken.Seq != c.at {
				t.Errorf("%s: %v, want a break at entry %d", name, err, c.at)
			}
		})
	}
	again := chain()
	again[4] = Entry{At: again[4].At, Actor: "kim", Act: "sign", Object: "R9", Detail: "{}"}.After(again[3])
	if _, err := verify(again, nil); err != nil {
		t.Error("a journal that was rewritten from entry 5 on has whole links:", err)
	}
	if _, err := verify(again, &head); err == nil {
		t.Error("a known head must tell of a journal that was rewritten")
	}
}
