package api

import (
	"fmt"

	"ironseal/pki/finding"
	"ironseal/pki/kit"
	"ironseal/pki/label"
	"ironseal/pki/pair"
	"ironseal/pki/trust"
)

// TrustSet is a trust set.
type TrustSet struct {
	Name    string   `json:"name" doc:"what it is called; own for the roots of the estate that still matter"`
	Title   string   `json:"title" doc:"what it is for"`
	Anchors []Anchor `json:"anchors" doc:"the certificates that are trusted"`
}

// Anchor is an anchor of a set.
type Anchor struct {
	Subject   string   `json:"subject" doc:"its distinguished name"`
	From      string   `json:"from" doc:"where it came from"`
	Purposes  []string `json:"purposes" doc:"servers, clients, mail, code"`
	Permitted []string `json:"permitted" doc:"the names that it counts for; empty for all"`
	Until     string   `json:"not_after" doc:"last moment"`
	CheckCode string   `json:"check_code" doc:"the code by which two people compare it"`
	SHA256    string   `json:"sha256" doc:"SHA-256 of it, in hex"`
}

// TrustSetOf is a set as JSON has it.
func TrustSetOf(s trust.Set) TrustSet {
	out := TrustSet{Name: s.Name, Title: s.Title, Anchors: []Anchor{}}
	for _, a := range s.Anchors {
		x := Anchor{Subject: a.Certificate.Subject.String(), From: a.From, Purposes: []string{}, Permitted: []string{},
			Until: Time(a.Certificate.NotAfter), CheckCode: label.CheckCode(a.Certificate.Raw),
			SHA256: fmt.Sprintf("%x", a.Certificate.SHA256())}
		for _, p := range a.Purposes {
			x.Purposes = append(x.Purposes, string(p))
		}
		for _, p := range a.Permitted {
			x.Permitted = append(x.Permitted, p.String())
		}
		out.Anchors = append(out.Anchors, x)
	}
	return out
}

// StoreCheck is what a store of a machine has of a trust set.
type StoreCheck struct {
	Store   string   `json:"store" doc:"whose store it is"`
	Path    string   `json:"path" doc:"where it is"`
	There   []string `json:"there" doc:"titles of the anchors that it has"`
	Missing []string `json:"missing" doc:"titles of the anchors that it has not"`
	Stale   []string `json:"stale" doc:"what is of an earlier time in it: files of kits, roots that nothing depends on"`
	Note    string   `json:"note,omitempty" doc:"what is wrong with it"`
	Kit     string   `json:"kit" doc:"the platform whose kit changes it"`
}

// StoreCheckOf is a store that was looked into, as JSON has it.
func StoreCheckOf(store, path, kit, note string, there, missing, stale []string) StoreCheck {
	return StoreCheck{Store: store, Path: path, Kit: kit, Note: note, There: append([]string{}, there...),
		Missing: append([]string{}, missing...), Stale: append([]string{}, stale...)}
}

// KitCheck is what was found of a kit.
type KitCheck struct {
	Good    bool     `json:"good" doc:"whether it is whole, and signed by whom it should be"`
	Files   int      `json:"files" doc:"how many files it has"`
	Faults  []string `json:"faults" doc:"files that were changed, are missing or were added"`
	Signed  bool     `json:"signed" doc:"whether there is a signature"`
	Signer  string   `json:"signer,omitempty" doc:"whose certificate the signature names"`
	When    string   `json:"signed_at,omitempty" doc:"when, as the signer says"`
	Against []string `json:"against" doc:"what speaks against the signature"`
}

// KitCheckOf is a kit that was checked, as JSON has it.
func KitCheckOf(c kit.Checked) KitCheck {
	out := KitCheck{Good: c.Good(), Files: c.Files, Signed: c.Signed, Faults: append([]string{}, c.Faults...),
		Against: append([]string{}, c.Against...)}
	if c.Signer != nil {
		out.Signer, out.When = c.Signer.Subject.String(), Time(c.When)
	}
	return out
}

// Machine is a store of a machine, by its last report.
type Machine struct {
	Host     string   `json:"host" doc:"the machine, as it calls itself"`
	Platform string   `json:"platform" doc:"the platform of the kit"`
	Store    string   `json:"store" doc:"where the store is"`
	When     string   `json:"reported" doc:"when it was last reported of"`
	Missing  []string `json:"missing" doc:"titles of the anchors that it lacks"`
}

// Pair is what holds between two machines that must trust each other.
type Pair struct {
	Holds   bool     `json:"holds" doc:"whether everything does that was asked"`
	Sides   []Side   `json:"sides" doc:"the first and the second"`
	Checks  []Accept `json:"checks" doc:"what one makes of the other, direction by direction"`
	Folders []string `json:"folders" doc:"the folders that were written, the first side's before the second's"`
}

// Side is one of two machines.
type Side struct {
	Title    string   `json:"title" doc:"whose certificate or request it is"`
	Host     string   `json:"reached_at,omitempty" doc:"the name by which the other connects"`
	Template string   `json:"template,omitempty" doc:"of a request: by what it would be signed"`
	Needs    []Anchor `json:"needs" doc:"the anchors that it must hold"`
}

// Accept is what one machine makes of another.
type Accept struct {
	Client   string       `json:"client" doc:"who connects"`
	Server   string       `json:"server" doc:"to whom"`
	Of       string       `json:"of" doc:"who is judged, by the other"`
	As       string       `json:"as" doc:"server or client"`
	Holds    bool         `json:"holds" doc:"whether it is accepted"`
	Findings finding.List `json:"findings" doc:"why not"`
}

// PairOf is a pair as JSON has it.
func PairOf(q pair.Question, a pair.Answer, folders []string, s Speller) Pair {
	out := Pair{Holds: a.Holds(), Checks: []Accept{}, Folders: append([]string{}, folders...)}
	for i, p := range q.Peers {
		side := Side{Title: p.Title, Host: p.Host, Needs: TrustSetOf(a.Needs[i]).Anchors}
		if p.Planned != nil {
			side.Template = p.Planned.Template
		}
		out.Sides = append(out.Sides, side)
	}
	for _, w := range a.Ways {
		for _, c := range w.Checks {
			out.Checks = append(out.Checks, Accept{Client: q.Peers[w.From].Title, Server: q.Peers[w.To].Title,
				Of: q.Peers[c.Of].Title, As: string(c.As), Holds: c.Holds,
				Findings: FindingsOf(c.Findings, s)})
		}
	}
	return out
}
