package journal

import (
	"testing"
	"time"
)

func TestFilters(t *testing.T) {
	at := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	e := Entry{At: at, Actor: "mira", Act: "revoke", Object: "booking.ternbay.example", Detail: `{"serial":"5a3e9366"}`}
	for name, c := range map[string]struct {
		f    Filter
		fits bool
	}{
		"any":          {Filter{}, true},
		"part of act":  {Filter{Act: "Rev"}, true},
		"other act":    {Filter{Act: "sign"}, false},
		"object":       {Filter{Object: "booking"}, true},
		"its detail":   {Filter{Object: "5A3E"}, true},
		"other object": {Filter{Object: "mail"}, false},
		"who":          {Filter{Who: "Mira"}, true},
		"part of who":  {Filter{Who: "mi"}, false},
		"since":        {Filter{Since: at}, true},
		"later":        {Filter{Since: at.Add(time.Second)}, false},
		"before":       {Filter{Before: at}, false},
		"all at once":  {Filter{Act: "revoke", Object: "booking", Who: "mira", Before: at.Add(1)}, true},
	} {
		t.Run(name, func(t *testing.T) {
			if c.f.Fits(e) != c.fits {
				t.Errorf("%+v", c.f)
			}
		})
	}
}
