package api

import (
	"fmt"
	"math"
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
	r := Certificate{Serial: h.SerialHex(), Title: h.Title(), Names: []string{}, State: h.State,
		Until: Time(h.NotAfter), By: h.Signer(), Template: h.Record.Template,
		Key: string(h.Key.Kind), Days: int(math.Floor(h.NotAfter.Sub(now).Hours() / 24)),
		Planned: h.Record.Replaced, Left: strings.TrimPrefix(span.Distance(now, h.NotAfter), "in ")}
	if r.Days >= 0 && r.Days < fewDays {
		r.Left = span.Count(r.Days, "day")
	}
	for _, n := range h.Names {
		r.Names = append(r.Names, n.String())
	}
	if h.Record.Request > 0 {
		r.Request = fmt.Sprintf("R%d", h.Record.Request)
	}
	return r
}
