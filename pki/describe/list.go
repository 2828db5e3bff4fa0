package describe

import (
	"fmt"
	"strings"
	"time"

	"ironseal/pki/distpoint"
	"ironseal/pki/revocation"
	"ironseal/pki/span"
)

// mostEntries is how many entries of a list are reported, of any number.
const mostEntries = 1000

// List describes a revocation list.
func List(l *revocation.List, now time.Time) Object {
	kind := "complete"
	if l.Base != nil {
		kind = "delta to " + l.Base.String()
	}
	o := Object{Kind: "revocation list", Title: "of " + l.Issuer.String()}
	o.detail("issuer", "Issuer", l.Issuer.String())
	o.add("list", "Kind", kind)
	if l.Number != nil {
		o.add("number", "Number", l.Number.String())
	}
	if l.Scoped {
		o.add("scope", "About", l.Scope.Words())
	}
	o.add("this_update", "Dated", l.ThisUpdate.Format(time.RFC3339)).Shown = []string{Moment(now, l.ThisUpdate)}
	if l.NextUpdate.IsZero() {
		o.add("next_update", "Next by", "").Shown = []string{"it does not say; Java refuses such a list"}
	} else {
		o.add("next_update", "Next by", l.NextUpdate.Format(time.RFC3339)).Shown = []string{Moment(now, l.NextUpdate)}
	}
	if why := l.Fresh(now); why != "" {
		o.add("stale", "Not fresh", why)
	}
	o.add("count", "Revoked", fmt.Sprint(l.Count)).Shown = []string{span.Count(l.Count, "certificate")}
	o.entries(l)
	for _, p := range l.Freshest {
		o.add("freshest", "Its delta at", strings.Join(distpoint.Addresses(p.Names), " "))
	}
	if l.KeyID != nil {
		o.hex("authority_key", "Signed by key", l.KeyID)
	}
	sum := l.SHA256()
	o.hex("sha256", "SHA-256", sum[:])
	return o
}

func (o *Object) entries(l *revocation.List) {
	var serials, shown []string
	_ = l.Each(func(e revocation.Entry) error { // it was proved when it was read
		if len(serials) == mostEntries {
			shown = append(shown, fmt.Sprintf("and %d more", l.Count-mostEntries))
			return errEnough
		}
		serials = append(serials, e.Serial.Hex())
		words := fmt.Sprintf("%s  %s  %s", e.Serial, e.At.Format("2006-01-02 15:04 UTC"), e.Reason.Word())
		if !e.Invalid.IsZero() {
			words += ", bad since " + e.Invalid.Format("2006-01-02 15:04 UTC")
		}
		if !e.Issuer.IsEmpty() {
			words += ", of " + e.Issuer.String()
		}
		shown = append(shown, words)
		return nil
	})
	o.add("serials", "", serials...).Shown = shown
}

var errEnough = fmt.Errorf("no more than %d entries are shown", mostEntries)
