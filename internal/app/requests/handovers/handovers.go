// Package handovers hands many certificates over: each to the receiver that is on record for it, in a folder
// of its own, with one page that lists them all.
package handovers

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ironseal/internal/app/parties"
	"ironseal/internal/app/requests/delivery"
	"ironseal/internal/app/requests/signing"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/probe"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/finding"
	"ironseal/pki/journal"
	"ironseal/pki/label"
	"ironseal/pki/lifecycle"
	"ironseal/pki/receiver"
	"ironseal/pki/runes"
	"ironseal/pki/san"
	"ironseal/pki/trust"
)

// IndexFile is the page that lists all folders of one act.
const IndexFile = "HANDOVERS.txt"

// Item is a certificate that is to be handed over.
type Item struct {
	Certificate estate.CertificateRecord
	Receiver    string // "" where none is known
	To          string // who gets it; "" where no one is known
}

// Ask says what is common to many handovers.
type Ask struct {
	Dir      string
	Replace  bool                                            // folders that hold an earlier handover
	Password func(Item) (secret []byte, err error)           // for files that are encrypted; asked once for each
	Waivers  func(estate.CertificateRecord) []finding.Waiver // nil for none
}

// Done is the outcome of an item.
type Done struct {
	Item
	Dir      string
	Findings finding.List
	KeyHere  bool
	Password []byte
	Err      error
}

// Of is what hands over a list: with the receiver and the party that are on record for each. For a
// certificate in place of another it is those of the earlier one.
func Of(ctx context.Context, e *estate.Estate, list []estate.CertificateRecord, fallback string) ([]Item, error) {
	told, err := before(ctx, e)
	if err != nil {
		return nil, err
	}
	known, err := parties.List(ctx, e)
	if err != nil {
		return nil, err
	}
	at, named := byHost(known), map[string]trust.Party{}
	for _, p := range known {
		named[p.Name] = p
	}
	var out []Item
	for _, c := range list {
		i := Item{Certificate: c}
		was, err := told.of(ctx, e, c)
		if err != nil {
			return nil, err
		}
		p, ok := named[was.To]
		if !ok {
			p, ok = serving(at, c)
		}
		if i.To = was.To; ok {
			i.To = p.Name
		}
		i.Receiver = cmp.Or(p.Receiver, was.Receiver, fallback)
		out = append(out, i)
	}
	return out, nil
}

// handed is the last that the journal tells of the handover of a certificate.
type handed struct{ Receiver, To string }

type record map[string]handed // by SHA-256 of the certificate

func before(ctx context.Context, e *estate.Estate) (record, error) {
	out := record{}
	err := e.Records.Derived(ctx, event.HandOvers, func(certificate string, en journal.Entry) error {
		told, err := event.As[event.HandedOver](en)
		h := handed{told.Receiver, told.Holder}
		if h.To == h.Receiver { // as it was written before, where no one was named
			h.To = ""
		}
		out[certificate] = h
		return err
	})
	return out, err
}

// of looks for the handover of a certificate, or of the latest before it that was handed over.
func (r record) of(ctx context.Context, e *estate.Estate, c estate.CertificateRecord) (handed, error) {
	for range 100 { // renewals of one another
		if h, ok := r[fmt.Sprintf("%x", c.SHA256())]; ok {
			return h, nil
		}
		if c.Record.Replaces == 0 {
			break
		}
		list, err := e.ReadCertificates(e.Records.CertificateByID(ctx, c.Record.Replaces))
		if err != nil || len(list) == 0 {
			return handed{}, err
		}
		c = list[0]
	}
	return handed{}, nil
}

// byHost finds parties by the hosts of their endpoints. A host of several parties belongs to none.
func byHost(list []trust.Party) map[string]*trust.Party {
	out := map[string]*trust.Party{}
	for i := range list {
		for _, typed := range list[i].Endpoints {
			t, err := probe.ParseTarget(typed)
			if err != nil {
				continue // it was recorded by a later program
			}
			host := strings.ToLower(t.Name)
			if other, there := out[host]; there && other != &list[i] {
				out[host] = nil
				continue
			}
			out[host] = &list[i]
		}
	}
	return out
}

// serving is the one party at whose endpoints a certificate is served by its names.
func serving(at map[string]*trust.Party, c estate.CertificateRecord) (trust.Party, bool) {
	var found *trust.Party
	for _, n := range c.Names {
		p := at[strings.ToLower(n.Value())]
		if n.Kind() != san.DNS || p == nil {
			continue
		}
		if found != nil && found != p {
			return trust.Party{}, false
		}
		found = p
	}
	if found == nil {
		return trust.Party{}, false
	}
	return *found, true
}

// NotHandedOver are the certificates in force that were not handed over yet.
func NotHandedOver(ctx context.Context, e *estate.Estate) ([]estate.CertificateRecord, error) {
	all, err := e.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	told, err := before(ctx, e)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(all, func(c estate.CertificateRecord) bool {
		_, given := told[fmt.Sprintf("%x", c.SHA256())]
		return given || c.IsAuthority() || c.OneUse() || !c.State.Serves()
	}), nil
}

// OfParties is what the named parties hold: the certificates that serve, and those that were signed in the
// place of one that they hold.
func OfParties(ctx context.Context, e *estate.Estate, names []string, fallback string) (out []Item, err error) {
	all, err := e.Certificates(ctx)
	if err != nil {
		return nil, err
	}
	next := map[int64]estate.CertificateRecord{}
	for _, c := range all {
		if c.Record.Replaces != 0 && c.State != lifecycle.Prepared {
			next[c.Record.Replaces] = c
		}
	}
	for _, name := range names {
		p, err := parties.Find(ctx, e, name)
		if err != nil {
			return nil, err
		}
		certificates, err := e.ReadCertificates(e.Records.CertificatesHeldBy(ctx, name))
		if err != nil {
			return nil, err
		}
		seen := map[int64]bool{}
		for _, c := range certificates {
			for there := true; there; { // each is younger than what it replaces
				var later estate.CertificateRecord
				if later, there = next[c.Record.ID]; there {
					c = later
				}
			}
			if seen[c.Record.ID] || !c.State.Serves() || c.IsAuthority() {
				continue
			}
			seen[c.Record.ID] = true
			items, err := Of(ctx, e, []estate.CertificateRecord{c}, fallback)
			if err != nil {
				return nil, err
			}
			items[0].To, items[0].Receiver = p.Name, cmp.Or(p.Receiver, items[0].Receiver)
			out = append(out, items...)
		}
	}
	return out, nil
}

// OfManifest are the newest certificates that serve the hosts of a manifest, with the receivers that it names.
func OfManifest(ctx context.Context, e *estate.Estate, rows []signing.ManifestRow, fallback string) (out []Item,
	failed map[string]error, err error) {
	failed = map[string]error{}
	var list []estate.CertificateRecord
	var receivers []string
	for _, row := range rows {
		if row.Err != nil {
			failed[row.Label()] = row.Err
			continue
		}
		certificates, err := e.ReadCertificates(e.Records.CertificatesByName(ctx, row.Host.Value()))
		if err != nil {
			return nil, nil, err
		}
		certificates = slices.DeleteFunc(certificates, func(c estate.CertificateRecord) bool {
			return !c.State.Serves() || c.
				IsAuthority()
		})
		if len(certificates) == 0 {
			failed[row.Label()] = fmt.Errorf("no valid certificate has this name")
			continue
		}
		newest := slices.MaxFunc(certificates, func(a, b estate.CertificateRecord) int {
			return a.NotBefore.
				Compare(b.NotBefore)
		})
		list, receivers = append(list, newest), append(receivers, row.Receiver)
	}
	if out, err = Of(ctx, e, list, fallback); err != nil {
		return nil, nil, err
	}
	for i := range out {
		out[i].Receiver = cmp.Or(receivers[i], out[i].Receiver)
	}
	return out, failed, nil
}

// Dirs are the folders of items; of two with one name and receiver the second has its serial number in it.
func Dirs(dir string, items []Item) []string {
	out, seen := make([]string, len(items)), map[string]bool{}
	for i, it := range items {
		base := label.FileName(it.Certificate.Title()) + "." + it.Receiver
		if seen[strings.ToLower(base)] {
			base = label.FileName(it.Certificate.Title()) + "-" + it.Certificate.Serial.Short() + "." + it.Receiver
		}
		seen[strings.ToLower(base)] = true
		out[i] = filepath.Join(dir, base)
	}
	return out
}

// Earlier are the folders that hold an earlier handover.
func Earlier(dirs []string) (out []string) {
	for _, d := range dirs {
		if delivery.HandedBefore(d) {
			out = append(out, d)
		}
	}
	return out
}

// All hands over, one after the other. A failure does not stop the rest. It calls done after each.
func All(ctx context.Context, e *estate.Estate, items []Item, ask Ask, done func(Done)) ([]Done, error) {
	receivers := map[string]receiver.Receiver{}
	dirs := Dirs(ask.Dir, items)
	var out []Done
	for i, it := range items {
		if ctx.Err() != nil {
			return out, context.Cause(ctx)
		}
		d := Done{Item: it}
		if d.Err = d.hand(ctx, e, ask, dirs[i], receivers); d.Err == nil {
			d.Dir = dirs[i]
		}
		out = append(out, d)
		done(d)
	}
	return out, e.Env.Disk.Replace(filepath.Join(ask.Dir, IndexFile), index(e, out), 0o644)
}

func (d *Done) hand(ctx context.Context, e *estate.Estate, ask Ask, dir string,
	receivers map[string]receiver.Receiver) error {
	if d.Receiver == "" {
		return fault.New(fault.BadInput, "no receiver is on record for it").Then(advice.To("give one",
			advice.ForReceiver),
			advice.To("or name its party's", advice.ChangeParty, "receiver", advice.Asked))
	}
	r, ok := receivers[d.Receiver]
	if !ok {
		var err error
		if r, err = e.Receiver(d.Receiver); err != nil {
			return err
		}
		receivers[d.Receiver] = r
	}
	h := delivery.HandoverAsk{Certificate: d.Certificate, Receiver: r, Dir: ask.Dir, Folder: filepath.Base(dir),
		Replace: ask.Replace && delivery.HandedBefore(dir), To: d.To}
	if ask.Waivers != nil {
		h.Waivers = ask.Waivers(d.Certificate)
	}
	var err error
	if h.Signer, err = delivery.DraftSigner(ctx, e, d.Certificate); err != nil {
		return err
	}
	d.KeyHere = h.Signer != nil
	if r.NeedsPassword() {
		if d.Password, err = ask.Password(d.Item); err != nil {
			return err
		}
		h.Password = d.Password
	}
	out, err := delivery.Handover(ctx, e, h)
	d.Findings = out.Findings
	return err
}

// index is the page that lists the folders. It holds no password.
func index(e *estate.Estate, list []Done) []byte {
	var b strings.Builder
	line := func(format string, args ...any) { b.WriteString(runes.Escape(fmt.Sprintf(format, args...)) + "\n") }
	line("Handovers of %s, %s", e.Settings.Organisation.Name, e.Now().UTC().Format("2006-01-02 15:04 UTC"))
	line("Each folder has a %s that says what to do.", delivery.ReadMeFile)
	for _, d := range list {
		if d.Err != nil {
			continue
		}
		b.WriteString("\n")
		key := "the key is in the folder"
		if !d.KeyHere {
			key = "the key stayed where the request was made"
		}
		line("%s", d.Certificate.Title())
		line("  folder      %s", filepath.Base(d.Dir))
		line("  for         %s%s", d.Receiver, toWhom(d.To))
		line("  serial      %s", d.Certificate.SerialHex())
		line("  until       %s", d.Certificate.NotAfter.Format("2006-01-02"))
		line("  check code  %s", label.CheckCode(d.Certificate.Raw))
		line("  key         %s", key)
	}
	for _, d := range list {
		if d.Err != nil {
			b.WriteString("\n")
			line("%s, serial %s: NOT handed over: %v", d.Certificate.Title(), d.Certificate.Serial.Short(), d.Err)
		}
	}
	return []byte(b.String())
}

func toWhom(who string) string {
	if who == "" {
		return ""
	}
	return ", to " + who
}
