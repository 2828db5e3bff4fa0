package estate

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"ironseal/internal/disk"
	"ironseal/internal/store"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/key"
	"ironseal/pki/request"
	"ironseal/pki/revocation"
)

// Fault is something wrong with an estate, and its remedy.
type Fault struct {
	About  string `json:"about"`
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Checked is what a check of the estate found.
type Checked struct {
	Head         string           `json:"journal_head"`
	Certificates int              `json:"certificates"`
	Keys         int              `json:"keys"`
	NextList     map[string]int64 `json:"next_list_number"` // of each authority that signs here
	Faults       []Fault          `json:"faults"`
}

func (c *Checked) fault(about, what, remedy string) {
	c.Faults = append(c.Faults, Fault{about, what, remedy})
}

const fromBackup = "restore it from a backup: ironseal estate restore FILE DIR"

// Check compares the records with the keys, the templates, the journal and the
// files. It changes nothing.
func (e *Estate) Check(ctx context.Context, progress func(done int)) (Checked, error) {
	out := Checked{Faults: []Fault{}, NextList: map[string]int64{}}
	head, err := e.records.VerifyJournal(ctx, nil)
	if err != nil {
		out.fault("journal", err.Error(), "compare with a head that was printed: ironseal journal verify --against HEAD; then "+fromBackup)
	}
	out.Head = head.String()
	if err := e.records.Sound(ctx); err != nil {
		out.fault("records", err.Error(), fromBackup)
	}
	known, err := e.checkAuthorities(ctx, &out)
	if err != nil {
		return out, err
	}
	if err := e.checkKeyFiles(&out, known); err != nil {
		return out, err
	}
	e.checkDataFiles(&out)
	e.checkStrays(&out)
	return out, e.checkCertificates(ctx, &out, progress)
}

// checkAuthorities looks at the keys that the records name, and returns their
// fingerprints.
func (e *Estate) checkAuthorities(ctx context.Context, out *Checked) (map[string]bool, error) {
	known := map[string]bool{}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		out.fault("authorities", err.Error(), fromBackup)
		return known, nil
	}
	for _, a := range h {
		for _, g := range a.Generations {
			sum := g.Certificate.Key.Fingerprint()
			known[fmt.Sprintf("%x", sum)] = true
			if g.Issuer != nil && g.Certificate.VerifiedBy(g.Issuer.Certificate.Key) != nil {
				out.fault(g.Name(), fmt.Sprintf("its certificate was not signed by %s, which the record names", g.Issuer.Name()), fromBackup)
			}
			if !a.Elsewhere && a.Retired.IsZero() && !e.custody.Has(g.Certificate.Key) {
				out.fault(g.Name(), "its key file is missing", fromBackup)
			}
		}
		if !a.Elsewhere {
			last, err := e.records.ListNumber(ctx, a.Handle)
			if err != nil {
				return known, err
			}
			out.NextList[a.Handle] = revocation.NextNumber(last, e.Now())
		}
	}
	open, err := e.records.Applications(ctx)
	if err != nil {
		return known, err
	}
	for _, a := range open {
		r, err := request.Read(a.DER)
		if err != nil {
			out.fault(a.Handle, "its request that was sent does not read: "+err.Error(), "withdraw it and apply again")
			continue
		}
		known[fmt.Sprintf("%x", r.Key.Fingerprint())] = true
		if !e.custody.Has(r.Key) {
			out.fault(a.Handle, "the key of its request that was sent is missing", "withdraw it and apply again: ironseal authority apply "+a.Handle+" --withdraw")
		}
	}
	return known, nil
}

// checkKeyFiles looks at every key file: whether it reads, belongs to something,
// and is its owner's only.
func (e *Estate) checkKeyFiles(out *Checked, known map[string]bool) error {
	files, err := filepath.Glob(filepath.Join(escapeGlob(e.Dir), "keys", "*"))
	if err != nil {
		return err
	}
	for _, f := range files {
		name := filepath.Base(f)
		about := "keys/" + name
		out.Keys++
		data, err := disk.Read(f, 1<<20)
		if err != nil {
			out.fault(about, err.Error(), fromBackup)
			continue
		}
		if c, err := bundle.Read(data); err != nil || len(c.Of(bundle.SealedKey)) != 1 {
			out.fault(about, "it is not one sealed key", fromBackup)
		} else if _, err := key.ReadHeader(c.Of(bundle.SealedKey)[0].DER); err != nil {
			out.fault(about, "it does not read: "+err.Error(), fromBackup)
		}
		if !known[strings.TrimSuffix(name, ".key")] {
			out.fault(about, "no record names this key: an act was cut off before it was recorded", "it serves nothing: delete the file")
		}
		if info, err := os.Stat(f); err == nil && info.Mode().Perm()&0o077 != 0 {
			out.fault(about, fmt.Sprintf("others may read it (mode %04o)", info.Mode().Perm()), "chmod 600 "+f)
		}
	}
	return nil
}

func (e *Estate) checkDataFiles(out *Checked) {
	_, faults := e.Templates()
	for _, f := range faults {
		out.fault("templates", f.Error(), "mend the file; ironseal template check says more")
	}
	for _, name := range e.ReceiverNames() {
		if _, err := e.Receiver(name); err != nil {
			out.fault("receivers", err.Error(), "mend the file, or delete it")
		}
	}
}

// checkStrays names what does not belong into the directory.
func (e *Estate) checkStrays(out *Checked) {
	entries, err := os.ReadDir(e.Dir)
	if err != nil {
		out.fault(e.Dir, disk.Plain(err).Error(), "check the permissions")
		return
	}
	records := e.Settings.Storage.Records
	belongs := map[string]bool{SettingsFile: true, "templates": true, "receivers": true, "keys": true, records: true, records + "-wal": true, records + "-shm": true}
	for _, x := range entries {
		if !belongs[x.Name()] && (strings.HasPrefix(x.Name(), ".ironseal-") || strings.HasSuffix(x.Name(), ".key")) {
			out.fault(x.Name(), "it was left behind by an act that was cut off, or does not belong here", "delete it")
		}
	}
}

// checkCertificates reads every certificate and verifies its signature by the
// generation that the record names.
func (e *Estate) checkCertificates(ctx context.Context, out *Checked, progress func(done int)) error {
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil // told above
	}
	list, err := e.records.Certificates(ctx)
	if err != nil {
		return err
	}
	out.Certificates = len(list)
	var mu sync.Mutex
	count := counting(progress)
	parallel(len(list), func(i int) {
		defer count()
		if what := faultOf(list[i], h.Generation(list[i].Issuer) != nil, func() *cert.Certificate { return h.Generation(list[i].Issuer).Certificate }); what != "" {
			mu.Lock()
			out.fault(list[i].Title, what, fromBackup)
			mu.Unlock()
		}
	})
	return ctx.Err()
}

func faultOf(r store.Certificate, issued bool, issuer func() *cert.Certificate) string {
	c, err := cert.Read(r.DER)
	switch {
	case err != nil:
		return "its certificate does not read: " + err.Error()
	case issued && c.VerifiedBy(issuer().Key) != nil:
		return "its certificate was not signed by " + r.Issuer + ", which the record names"
	}
	return ""
}
