package trust_test

import (
	"slices"
	"testing"
	"time"

	"ironseal/pki/specimen"
	"ironseal/pki/trust"
)

// A party is ready when every store and every endpoint of it is known to hold a root; what nothing tells is
// unknown.
func TestWhenAPartyIsReady(t *testing.T) {
	root := specimen.NewLine(t).Root
	day := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	seq := int64(0)
	said := func(platform, where string, has bool, hours int) trust.Evidence {
		seq++
		return trust.Evidence{Has: has, By: where, When: day.Add(time.Duration(hours) * time.Hour), Where: where,
			Platform: platform, Seq: seq}
	}
	debian := func(has bool, h int) trust.Evidence { return said("debian", "debian /etc", has, h) }
	java := func(has bool, h int) trust.Evidence { return said("java", "java /opt/cacerts", has, h) }
	other := func(has bool, h int) trust.Evidence { return said("java", "java /srv/cacerts", has, h) }
	at := func(where string, has bool, h int) trust.Evidence { return said("", where, has, h) }
	word := func(has bool, h int) trust.Evidence { return said("", "", has, h) }
	both, ends := trust.Party{Platforms: []string{"debian", "java"}}, trust.Party{Endpoints: []string{"a:443", "b:443"}}
	for name, c := range map[string]struct {
		party trust.Party
		known []trust.Evidence
		want  trust.Readiness
	}{
		"nothing was heard":                  {both, nil, trust.Unknown},
		"one platform of two reported":       {both, list(debian(true, 1)), trust.Unknown},
		"both reported":                      {both, list(debian(true, 1), java(true, 2)), trust.Ready},
		"one store lacks it, reported first": {both, list(java(false, 1), debian(true, 2)), trust.NotReady},
		"one store of two of a platform": {both, list(debian(true, 1), java(true, 2), other(false, 1)),
			trust.NotReady},
		"the same store learnt it": {both, list(debian(true, 1), java(false, 2), java(true, 3)),
			trust.Ready},
		"the same store forgot it": {both, list(debian(true, 1), java(true, 2), java(false, 3)),
			trust.NotReady},
		"of one second the later recorded": {both, list(debian(true, 1), java(true, 2), java(false, 2)),
			trust.NotReady},
		"somebody's word after a report":  {both, list(java(false, 1), word(true, 2)), trust.Ready},
		"somebody's word before a report": {both, list(word(true, 1), java(false, 2)), trust.NotReady},
		"somebody says that it lacks it": {both, list(debian(true, 1), java(true, 1), word(false, 2)),
			trust.NotReady},
		"an endpoint is no report of a store": {both, list(at("a:443", true, 1)), trust.Unknown},
		"one endpoint of two told":            {ends, list(at("a:443", true, 1)), trust.Unknown},
		"of two endpoints one lacks it": {ends, list(at("a:443", false, 1), at("b:443", true, 2)),
			trust.NotReady},
		"both endpoints hold it":                {ends, list(at("a:443", true, 1), at("b:443", true, 2)), trust.Ready},
		"no platform on record, and one report": {trust.Party{}, list(debian(true, 1)), trust.Ready},
		"closed, and nothing heard":             {trust.Party{Closed: "sealed"}, nil, trust.Closed},
		"closed, and it holds it":               {trust.Party{Closed: "sealed"}, list(word(true, 1)), trust.Ready},
	} {
		t.Run(name, func(t *testing.T) {
			c.party.Name = "quay"
			needs := []trust.Anchor{{Certificate: root.Cert}}
			got := c.party.Assess(needs, map[[32]byte][]trust.Evidence{root.Cert.SHA256(): c.known})
			if got.State != c.want || (got.State == trust.Ready) != (len(got.Lacks) == 0) {
				t.Errorf("%+v", got)
			}
			slices.Reverse(c.known)
			if again := c.party.Assess(needs, map[[32]byte][]trust.Evidence{root.Cert.
				SHA256(): c.known}); again.State !=
				c.want {
				t.Errorf("in another order: %+v", again)
			}
		})
	}
}

func list(e ...trust.Evidence) []trust.Evidence { return e }
