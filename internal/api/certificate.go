package api

import (
	"math"
	"strconv"
	"strings"
	"time"

	"ironseal/internal/estate"
	"ironseal/pki/lifecycle"
	"ironseal/pki/span"
)

// Certificate is a certificate on record in a list; show has more.
type Certificate struct {
	Serial   string          `json:"serial" doc:"its serial number, in hex"`
	Title    string          `json:"title" doc:"the first of its names, or its subject"`
	Names    []string        `json:"names" doc:"alternative names, each with its kind: dns:, ip:, email:, uri:, upn:"`
	State    lifecycle.State `json:"state" doc:"valid, expiring, expired, replaced, prepared, revoked, on hold, issuer revoked"`
	Until    string          `json:"not_after" doc:"last moment"`
	By       string          `json:"by" doc:"who signed it: a generation such as services.g1, itself, or outside"`
	Template string          `json:"template,omitempty" doc:"the template it was signed by; absent for what others signed"`
	Request  string          `json:"request,omitempty" doc:"the request it came from, such as R7"`
	Key      string          `json:"key" doc:"kind of key"`
	Days     int             `json:"days_left" doc:"whole days; below zero once it ended"`
	Renews   string          `json:"renews" doc:"itself: its machine renews it; late: its machine should have and did not; empty: a person does"`
	Left     string          `json:"-"`
	Planned  bool            `json:"-"` // another serves in its place
}

// fewDays is what is counted in days; beyond it, years say more.
const fewDays = 730

// CertificateOf is a certificate on record as a row.
func CertificateOf(h estate.CertificateRecord, now time.Time) Certificate {
	l := h.Line()
	return WithNames(CertificateLine(&l, now), &l)
}

// CertificateLine is a line of the records as a row, but for the names.
func CertificateLine(l *estate.CertificateLine, now time.Time) Certificate {
	r := Certificate{Serial: l.Serial, Title: l.Title, State: l.State, Until: Time(l.Until), By: l.Signer(),
		Template: l.Template, Key: l.KeyKind, Days: int(math.Floor(l.Until.Sub(now).Hours() / 24)),
		Planned: l.Replaced}
	if r.Days >= 0 && r.Days < fewDays {
		r.Left = span.Count(r.Days, "day")
	} else {
		r.Left = strings.TrimPrefix(span.Distance(now, l.Until), "in ")
	}
	if l.Request > 0 {
		r.Request = "R" + strconv.FormatInt(l.Request, 10)
	}
	return r
}

// WithNames is a row with the names of its line.
func WithNames(r Certificate, l *estate.CertificateLine) Certificate {
	r.Names = l.Names()
	return r
}
