package publishing

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironseal/internal/disk"
	"ironseal/internal/estate"
	"ironseal/pki/bundle"
	"ironseal/pki/hierarchy"
	"ironseal/pki/label"
	"ironseal/pki/pkcs"
	"ironseal/pki/revocation"
	"ironseal/pki/runes"
)

// ContentsFile tells, in a folder that is served, what is in it and who wrote it. A folder
// without it is nobody's to replace.
const ContentsFile = "contents.txt"

// Released is what a folder holds now.
type Released struct {
	Dir    string
	Files  []string
	Lists  []Item
	Stale  []string // lists that are in it and stale, by title
	Absent []string // generations of which no list is there
	Same   bool     // it held all of this before
}

// Release writes into a folder all that clients fetch: the lists that are to be served now,
// and the authorities' certificates. The folder is made beside its place and takes it in one
// step; it is to hold nothing else. Where another program publishes meanwhile, it is done
// again, so that the older never stays in the place of the newer.
func Release(ctx context.Context, e *estate.Estate, dir string) (Released, error) {
	for again := range mostAgain {
		before, err := Known(ctx, e)
		if err != nil {
			return Released{}, err
		}
		out, err := release(ctx, e, dir)
		after, knownErr := Known(ctx, e)
		if knownErr != nil {
			return out, errors.Join(err, knownErr)
		}
		if err == nil && before.last() != after.last() && again < mostAgain-1 {
			continue
		}
		if err == nil {
			err = place(ctx, e, dir, after, out.Lists)
		}
		return out, err
	}
	return Released{}, nil
}

// mostAgain is how often a folder is written again because somebody published meanwhile.
const mostAgain = 5

func release(ctx context.Context, e *estate.Estate, dir string) (Released, error) {
	out := Released{Dir: dir}
	files, err := out.gather(ctx, e)
	if err != nil {
		return out, err
	}
	out.Files = slices.Sorted(maps.Keys(files))
	files[ContentsFile] = out.contents(e, files)
	if out.Same, err = holds(dir, files); err != nil || out.Same {
		return out, err
	}
	known, err := ours(dir)
	if err != nil {
		return out, err
	}
	for name := range files {
		known = append(known, name)
	}
	done, err := e.UnderWay(filepath.Dir(filepath.Clean(dir)))
	if err != nil {
		return out, err
	}
	defer done()
	err = disk.ReplaceFolder(dir, known, func(into string) error {
		if err := os.Chmod(into, 0o755); err != nil {
			return fmt.Errorf("%s: %w", into, disk.Plain(err))
		}
		for _, name := range slices.Sorted(maps.Keys(files)) {
			if err := e.World.Disk.New(filepath.Join(into, name), files[name], 0o644); err != nil {
				return err
			}
		}
		return e.World.Step(estate.StepHandingOut)
	})
	return out, err
}

// holds reports whether a folder holds just these files.
func holds(dir string, files map[string][]byte) (bool, error) {
	list, err := os.ReadDir(dir)
	if err != nil || len(list) != len(files) {
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return false, err
	}
	for _, f := range list {
		data, wanted := files[f.Name()]
		if !wanted {
			return false, nil
		}
		if same, _, err := disk.Holds(filepath.Join(dir, f.Name()), data); err != nil || !same {
			return false, err
		}
	}
	return true, nil
}

// ours are the files of a folder that this program wrote: those that its contents tell.
func ours(dir string) ([]string, error) {
	data, err := disk.ReadRegular(filepath.Join(dir, ContentsFile), 16<<20)
	if err != nil {
		return nil, nil // then the folder must be empty, or hold nothing but what is to be written
	}
	var out []string
	for line := range strings.Lines(string(data)) {
		if name, found := strings.CutPrefix(line, "- "); found {
			name, _, _ = strings.Cut(strings.TrimSpace(name), " ")
			if name == filepath.Base(name) {
				out = append(out, name)
			}
		}
	}
	return append(out, ContentsFile), nil
}

// contents says in words what a folder holds. It tells no time of its own: the same lists
// give the same text.
func (r *Released) contents(e *estate.Estate, files map[string][]byte) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "Revocation lists and authorities of %s.\n", runes.Escape(e.Settings.Organisation.Name))
	b.WriteString("Serve this folder over plain HTTP, as it is. It is replaced as a whole; keep nothing else in " +
		"it.\n\n")
	for _, i := range r.Lists {
		fmt.Fprintf(&b, "list %d of %s, of %s, next by %s, %d revoked\n", i.Number, i.Title(),
			i.This.UTC().Format(time.RFC3339), i.Next.UTC().Format(time.RFC3339), i.Entries)
	}
	b.WriteString("\nFiles (.crl and .cer are DER, .pem is text, .p7c PKCS#7; NAME.lists.pem has the lists of " +
		"NAME and of " +
		"every\nauthority above it, for servers that want all of a path in one file):\n\n")
	for _, name := range slices.Sorted(maps.Keys(files)) {
		fmt.Fprintf(&b, "- %s %d octets\n", name, len(files[name]))
	}
	return b.Bytes()
}

// gather puts together what a folder is to hold.
func (r *Released) gather(ctx context.Context, e *estate.Estate) (map[string][]byte, error) {
	files := map[string][]byte{}
	h, err := e.Hierarchy(ctx)
	if err != nil {
		return nil, err
	}
	have, err := Known(ctx, e)
	if err != nil {
		return nil, err
	}
	now := e.Now()
	whole := map[string][]byte{} // the PEM of whole lists
	for _, g := range signers(h, now) {
		found := false
		for _, s := range slices.SortedFunc(maps.Keys(have.newest), byPart) {
			if s.list != g.Name() {
				continue
			}
			i, ok := have.at(s, now)
			if !ok {
				continue
			}
			l, err := read(e, i)
			if errors.Is(err, fs.ErrNotExist) &&
				g.Authority.Elsewhere { // after a restored backup: it is taken in again
				continue
			}
			if err != nil {
				return nil, fmt.Errorf("the list %s is not there: %w: sign it again: ironseal revocations "+
					"publish %s --to DIR",
					i.Title(), err, g.Authority.Handle)
			}
			files[i.Title()] = l.Raw
			files[i.Title()+".pem"] = bundle.PEM(bundle.List, l.Raw)
			if r.Lists = append(r.Lists, i); now.After(i.Next) {
				r.Stale = append(r.Stale, i.Title())
			}
			if i.Part == 0 && !i.Delta {
				found, whole[g.Name()] = true, files[i.Title()+".pem"]
			}
		}
		if !found {
			r.Absent = append(r.Absent, g.Label())
		}
	}
	for _, a := range h {
		for _, g := range a.Generations {
			if now.After(g.Certificate.NotAfter) {
				continue
			}
			if err := issuerFiles(files, g, whole); err != nil {
				return nil, err
			}
		}
	}
	return files, r.aliases(ctx, e, h, files)
}

func byPart(a, b scope) int {
	if a.part != b.part {
		return a.part - b.part
	}
	return strings.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

// issuerFiles adds the certificate of a generation, the certificates from it upward, and the
// lists of its path where all of them are there.
func issuerFiles(files map[string][]byte, g *hierarchy.Generation, whole map[string][]byte) error {
	files[revocation.IssuerFile(g.Name())] = g.Certificate.Raw
	var chain [][]byte
	var lists []byte
	complete := true
	for _, up := range g.Line() {
		chain = append(chain, up.Certificate.Raw)
		l, ok := whole[up.ListName()]
		complete = complete && ok
		if !bytes.Contains(lists, l) || !ok { // one list an issuer, however often it stands in the path
			lists = append(lists, l...)
		}
	}
	p7, err := pkcs.WriteSignedData(chain)
	if err != nil {
		return err
	}
	files[g.Name()+".p7c"] = p7
	if complete {
		files[g.Name()+".lists.pem"] = lists
	}
	return nil
}

// aliases adds lists and certificates under the names that templates wrote into certificates
// by themselves.
func (r *Released) aliases(ctx context.Context, e *estate.Estate, h hierarchy.Hierarchy,
	files map[string][]byte) error {
	signings, err := e.Records.Signings(ctx)
	if err != nil {
		return err
	}
	owner := map[string]string{}
	for _, s := range signings {
		t, err := estate.Recorded(s.Template, s.Source)
		g := h.Generation(s.Generation)
		if err != nil || g == nil {
			continue // what was signed by it is told by estate check
		}
		for _, x := range []struct {
			addresses []string
			file      string
		}{{t.Publish.Lists, revocation.ListFile(g.ListName(), 0)},
			{t.Publish.Issuers, revocation.IssuerFile(g.Name())}} {
			data, there := files[x.file]
			for _, u := range x.addresses {
				name := path.Base(u)
				if !there || name != filepath.Base(name) || !label.IsFileName(name) || name == x.file {
					continue
				}
				if was, taken := owner[name]; taken && was != x.file || !taken && files[name] != nil {
					return fmt.Errorf("%s and %s would both be %s, by the addresses in templates: give each "+
						"authority an "+
						"address of its own, or leave them to publication.address in %s", was, x.file, name,
						estate.SettingsFile)
				}
				owner[name], files[name] = x.file, data
			}
		}
	}
	return nil
}
