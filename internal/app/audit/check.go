// Package audit compares an estate with itself: the journal link by link, the
// records with what the journal tells of them, keys with certificates, files with
// the modes they should have.
//
// Every fault names its object and a remedy, and no remedy destroys anything: a
// key that nothing names is moved aside, on request, when everything else could
// be read.
package audit

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/app/revoke/inventory"
	"ironseal/internal/app/trust/anchors"
	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/internal/event"
	"ironseal/internal/store"
	"ironseal/pki/advice"
	"ironseal/pki/fault"
	"ironseal/pki/journal"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
)

// Fault is something wrong with an estate, and its remedy.
type Fault struct {
	About string      `json:"about" doc:"what it is about"`
	What  string      `json:"what" doc:"what is wrong"`
	Next  advice.List `json:"-"`
}

// Checked is what a check of the estate found.
type Checked struct {
	Head         string           `json:"journal_head" doc:"the journal's head"`
	Certificates int              `json:"certificates" doc:"how many were checked"`
	Keys         int              `json:"keys" doc:"how many were checked"`
	NextList     map[string]int64 `json:"next_list_number" doc:"the number of the next list, of each authority that signs here"`
	Removed      []string         `json:"removed" doc:"what interrupted runs had left behind"`
	Aside        []string         `json:"moved_aside" doc:"unknown key files that were moved"`
	Faults       []Fault          `json:"faults" doc:"what is wrong"`

	unread bool // something could not be read, so it is not known what is not needed
}

func (c *Checked) fault(about, what string, next ...advice.Step) {
	c.Faults = append(c.Faults, Fault{about, what, next})
}

var fromBackup = advice.To("restore it from a backup", advice.RestoreEstate, "folder", "DIR")

// CheckAsk says how an estate is checked.
type CheckAsk struct {
	MoveAside bool           // move key files that nothing names out of the way
	Progress  func(done int) // certificates that were checked
}

// Check compares the records with the journal, the keys, the templates and the
// files. Of what is on record and what is a key it changes nothing, but for key files
// that are to be moved aside; what acts that were cut off left behind is removed.
func Check(ctx context.Context, e *estate.Estate, ask CheckAsk) (Checked, error) {
	var removed, aside []string
	for again := 2; ; again-- {
		var out Checked
		err := e.View(ctx, func(snapshot *estate.Estate) (err error) {
			out, err = check(ctx, snapshot, ask)
			return err
		})
		removed, aside = append(removed, out.Removed...), append(aside, out.Aside...)
		out.Removed, out.Aside = append([]string{}, removed...), append([]string{}, aside...)
		if err != nil || len(out.Faults) == 0 || again == 0 {
			return out, err
		}
		head, _, err := e.Records.Newest(ctx)
		if err != nil || head.String() == out.Head {
			return out, err
		}
		// Another program is at work: a key file may have come or gone since the records were read.
	}
}

// check looks at everything, with the records as they are at one moment.
func check(ctx context.Context, e *estate.Estate, ask CheckAsk) (Checked, error) {
	out := Checked{Faults: []Fault{}, NextList: map[string]int64{}, Removed: []string{}, Aside: []string{}}
	files := keyFiles(e) // before the records: a key is on disk before its record is
	told, err := checkJournal(ctx, e, &out)
	if err != nil {
		return out, err
	}
	if err := e.Records.CheckIntegrity(ctx); err != nil {
		out.fault("records", err.Error(), fromBackup)
		out.unread = true
	}
	known, err := checkAuthorities(ctx, e, &out)
	if err != nil {
		return out, err
	}
	checkDataFiles(ctx, e, &out)
	checkModes(e, &out)
	if err := checkLeftovers(ctx, e, &out); err != nil {
		return out, err
	}
	lists, err := inventory.Damaged(ctx, e)
	if err != nil {
		return out, err
	}
	for title, why := range lists {
		out.fault(title, "the list that is to be served is not there as it was signed: "+why,
			advice.To("sign it again", advice.PublishLists, "all", ""), advice.Say("of an authority elsewhere, "+
				"import it again"))
	}
	if err := audit(ctx, e, &out, told, ask.Progress); err != nil {
		return out, err
	}
	if err := checkKeyFiles(ctx, e, &out, files, known, ask.MoveAside); err != nil {
		return out, err
	}
	return out, checkSealed(ctx, e, &out, files, known)
}

// checkJournal proves the journal whole, compares it with the head that was noted
// beside the records, and tells where its times run backwards. It returns what the journal says must be on record.
func checkJournal(ctx context.Context, e *estate.Estate, out *Checked) (*told, error) {
	var known *journal.Head
	if h, ok := e.Records.NotedHead(); ok {
		known = &h
	} else {
		out.fault("journal", "the note of its newest entry, "+filepath.Base(e.Records.HeadFile())+", is missing or "+
			"cannot be read: an end that was cut off would not be noticed", advice.To("compare the head with one "+
			"that was printed on a sheet or in a backup", advice.VerifyJournal,
			"head", advice.Asked), advice.Say("the next act writes the note again"))
	}
	j, err := readJournal(ctx, e, known)
	if err != nil {
		return nil, err
	}
	var broken *journal.Break
	head, err := j.head()
	if err != nil && !errors.As(err, &broken) {
		return nil, err
	}
	if err != nil {
		out.fault("journal", err.Error(), advice.To("compare with a head that was printed", advice.VerifyJournal,
			"head", advice.Asked), fromBackup)
	}
	out.Head = head.String()
	if err := j.witnessed(); errors.Is(err, fault.Refused) {
		out.fault("journal", err.Error(), advice.Say("records were written without an operator's key: find out "+
			"who can write them"), fromBackup)
	} else if err != nil {
		return nil, err
	}
	for _, b := range j.times.Found {
		if !b.Settled {
			out.fault(fmt.Sprintf("J%d", b.Seq),
				fmt.Sprintf("it is dated %s, and an entry before it %s: one of the two was dated by a wrong clock",
					b.At.Format(time.RFC3339), b.Before.Format(time.RFC3339)),
				advice.Say("set the clock"), advice.To("where the earlier entry is the wrong one, put that on record",
					advice.SettleClock, "because", advice.Asked))
		}
	}
	return j.told, nil
}

// checkAuthorities looks at the keys that the records name, and returns their
// fingerprints.
func checkAuthorities(ctx context.Context, e *estate.Estate, out *Checked) (map[string]bool, error) {
	known, err := e.Records.KnownKeys(ctx)
	if err != nil {
		return nil, err
	}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		out.fault("authorities", err.Error(), fromBackup)
		out.unread = true
		return known, nil
	}
	for _, a := range h {
		for _, g := range a.Generations {
			if g.Issuer != nil && g.Certificate.VerifiedBy(g.Issuer.Certificate.Key) != nil {
				out.fault(g.Name(), fmt.Sprintf("its certificate was not signed by %s, which the record names",
					g.Issuer.Name()), fromBackup)
			}
			if !a.External() && a.Retired.IsZero() && !e.Settings.Storage.OnServer() && !e.Keys.Has(g.Certificate.Key) {
				out.fault(g.Name(), "its key file is missing", fromBackup)
			}
		}
		if !a.External() {
			last, err := e.Records.ListNumber(ctx, a.Handle)
			if err != nil {
				return known, err
			}
			out.NextList[a.Handle] = revocation.NextNumber(last, e.Now())
		}
	}
	open, err := e.Records.Applications(ctx)
	if err != nil {
		return known, err
	}
	for _, a := range open {
		r, err := request.Read(a.DER)
		if err != nil {
			out.fault(a.Handle, "the request that was sent cannot be parsed: "+err.Error(),
				advice.Say("withdraw it and apply again"))
			out.unread = true
			continue
		}
		if !e.Keys.Has(r.Key) {
			out.fault(a.Handle, "the key of its request that was sent is missing",
				advice.To("withdraw it and apply again", advice.ApplyAuthority, "authority", a.Handle, "withdraw", ""))
		}
	}
	return known, nil
}

// orphanAge is how old a key file must be before it counts as left behind: another
// program may be about to record it.
const orphanAge = time.Hour

func keyFiles(e *estate.Estate) []string {
	files, err := filepath.Glob(filepath.Join(estate.EscapeGlob(e.Dir), "keys", "*"))
	if err != nil {
		return nil // only a faulty pattern gives an error
	}
	return files
}

// checkKeyFiles looks at every key file: whether it reads, belongs to something,
// and is its owner's only. No key is ever called superfluous: what nothing names may
// be the key of a certificate that a damaged record held.
func checkKeyFiles(ctx context.Context, e *estate.Estate, out *Checked, files []string, known map[string]bool,
	moveAside bool) error {
	for _, f := range files {
		name := filepath.Base(f)
		about := "keys/" + name
		if strings.HasPrefix(name, ".ironseal-") {
			continue // reported among the leftovers
		}
		if strings.HasSuffix(name, ".shares") { // a note of who has shares, and no key
			continue
		}
		if strings.HasSuffix(name, ".agent") { // a note, and no key
			if !known[strings.TrimSuffix(name, ".agent")] {
				out.fault(about, "it says that an SSH agent holds a key which no record names", advice.Say("keep it"))
			}
			continue
		}
		out.Keys++
		data, err := disk.ReadRegular(f, 1<<20)
		if err != nil {
			out.fault(about, err.Error(), fromBackup)
			continue
		}
		checkKeyFile(out, about, data)
		info, err := os.Stat(f)
		if err != nil {
			continue // it was moved meanwhile
		}
		if why := disk.Exposed(f); why != "" {
			out.fault(about, why, advice.Say(disk.Closing(f)))
		}
		if known[strings.TrimSuffix(name, ".key")] || e.Env.Now().Sub(info.ModTime()) < orphanAge {
			continue
		}
		if err := orphan(ctx, e, out, f, moveAside && !out.unread && len(out.Faults) == 0); err != nil {
			return err
		}
	}
	return nil
}

// orphan tells of a key file that no record names, or moves it aside.
func orphan(ctx context.Context, e *estate.Estate, out *Checked, file string, move bool) error {
	about := "keys/" + filepath.Base(file)
	if !move {
		remedy := advice.List{advice.Say("keep it"), advice.To("to move it aside, where backups keep it too",
			advice.CheckEstate,
			"move-aside", "")}
		if out.unread || len(out.Faults) > 0 {
			remedy = advice.List{advice.Say("mend the other faults first: a record that cannot be parsed may be the " +
				"one that " +
				"names it; keep the file")}
		}
		out.fault(about, "no record names this key: an act was cut off before it was recorded, or a record is gone",
			remedy...)
		return nil
	}
	dir := filepath.Join(e.Dir, estate.AsideDir)
	if err := disk.OwnDir(dir); err != nil {
		return err
	}
	if _, err := e.Act(ctx, func(store.Tx) ([]event.Record, error) {
		return []event.Record{event.On(about, event.KeyMovedAside{})}, nil
	}); err != nil {
		return err
	}
	if err := disk.Place(file, filepath.Join(dir, filepath.Base(file))); err != nil {
		return err
	}
	out.Aside = append(out.Aside, estate.AsideDir+"/"+filepath.Base(file))
	return nil
}

func checkDataFiles(ctx context.Context, e *estate.Estate, out *Checked) {
	_, faults := e.Templates()
	for _, f := range faults {
		out.fault("templates", f.Error(), advice.Say("mend the file"), advice.To("see more", advice.CheckTemplates))
	}
	for _, name := range e.ReceiverNames() {
		if _, err := e.Receiver(name); err != nil {
			out.fault("receivers", err.Error(), advice.Say("mend the file, or delete it"))
		}
	}
	for _, name := range e.DataNames("set") {
		if _, err := anchors.Set(ctx, e, name); err != nil {
			out.fault("sets", err.Error(), advice.Say("mend the file, or delete it"))
		}
	}
}

// checkModes tells what others could change or read.
func checkModes(e *estate.Estate, out *Checked) {
	names := append(estate.DataDirs(), ".", estate.SettingsFile, "keys")
	if !e.Settings.Storage.OnServer() {
		names = append(names, e.Settings.Storage.Records)
	}
	for _, name := range names {
		path := filepath.Join(e.Dir, name)
		if why := disk.Untrusted(path); why != "" {
			out.fault(name, why+": whoever can change it decides what is signed", advice.Say(disk.Guarding(path)))
		}
	}
	records := filepath.Join(e.Dir, e.Settings.Storage.File())
	if why := disk.Exposed(records); why != "" {
		out.fault(e.Settings.Storage.File(), why, advice.Say(disk.Closing(records)))
	}
	for _, kind := range estate.DataKinds {
		for _, name := range e.DataNames(kind) {
			file := filepath.Join(e.Dir, kind+"s", name+".toml")
			if why := disk.Untrusted(file); why != "" {
				out.fault(kind+"s/"+name+".toml", why+": whoever can change it decides what is signed",
					advice.Say(disk.Guarding(file)))
			}
		}
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// checkLeftovers removes what acts that were cut off left behind, in the estate and
// where drafts were written, and tells of withdrawals that can be finished.
func checkLeftovers(ctx context.Context, e *estate.Estate, out *Checked) error {
	drafts, err := e.Records.DraftFiles(ctx)
	if err != nil {
		return err
	}
	places := map[string]bool{e.Dir: true, filepath.Join(e.Dir, "keys"): true}
	for _, dir := range append(estate.DataDirs(), filepath.Base(inventory.Folder(e))) {
		if path := filepath.Join(e.Dir, dir); exists(path) {
			places[path] = true
		}
	}
	for _, f := range drafts {
		places[filepath.Dir(f)] = true
	}
	tidied, err := e.Tidy()
	if out.Removed = append(out.Removed, tidied...); err != nil {
		out.fault("outside the estate", err.Error(), advice.Say("remove it by hand: it may hold a private key"))
	}
	for _, dir := range slices.Sorted(maps.Keys(places)) {
		removed, err := disk.Sweep(dir)
		out.Removed = append(out.Removed, removed...)
		if err != nil {
			out.fault(dir, err.Error(), advice.Say("remove it by hand: it may hold a private key"))
		}
	}
	open, err := e.Records.UnfinishedWithdrawals(ctx)
	if err != nil {
		return err
	}
	for _, u := range open {
		out.fault(fmt.Sprintf("R%d", u.Number), "it is withdrawn, and the key of its draft was not destroyed: "+u.File,
			advice.To("finish it", advice.WithdrawRequest, "request", fmt.Sprintf("R%d", u.Number), "because",
				advice.Asked))
	}
	return nil
}
