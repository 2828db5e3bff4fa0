package anchors

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/label"
)

// Bounds on archives. Nothing of an archive is ever written to a disk: its paths and links
// mean nothing here.
const (
	mostFiles   = 10_000
	mostContent = 64 << 20 // bytes, of all files together
	mostFile    = 4 << 20
)

// Found is what was found in one file, or in one file of an archive.
type Found struct {
	Source       string // the file, with its path in the archive behind it
	Certificates []*cert.Certificate
	Note         string // why it is missing
}

// Look finds the certificates in a file of any form, or in each file of an archive (zip,
// tar, tar.gz).
func Look(name string, data []byte) ([]Found, error) {
	l := &looking{name: name}
	if err := l.open(data); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return l.out, nil
}

// open looks into an archive, or at the one file that it is.
func (l *looking) open(data []byte) (err error) {
	switch {
	case bytes.HasPrefix(data, []byte("PK\x03\x04")) || bytes.HasPrefix(data, []byte("PK\x05\x06")):
		err = l.zip(data)
	case bytes.HasPrefix(data, []byte{0x1f, 0x8b}):
		var z *gzip.Reader
		if z, err = gzip.NewReader(bytes.NewReader(data)); err == nil {
			err = l.tar(z)
		}
	case len(data) > 262 && string(data[257:262]) == "ustar":
		err = l.tar(bytes.NewReader(data))
	default:
		l.file(l.name, data)
	}
	return err
}

type looking struct {
	name  string
	keep  map[string][]byte // the files themselves, where they are wanted and not what is in them
	top   string            // the one folder of a kit
	out   []Found
	files int
	bytes int64
}

// errTooMuch refuses a bomb before anything of it was unpacked.
var errTooMuch = fmt.Errorf("the archive holds more than %d files or %d MB: take out what you need and give that",
	mostFiles, mostContent>>20)

// plain refuses, in the archive of a kit, what another program could unpack otherwise than it is read
// here: anything but plain files and folders, more than one folder at the top, a path in another
// spelling, and whatever lies deeper.
func (l *looking) plain(name string, file, folder bool) error {
	if l.keep == nil {
		return nil
	}
	top, rest, _ := strings.Cut(strings.TrimSuffix(name, "/"), "/")
	switch {
	case !file && !folder:
		return fmt.Errorf("%q in it is neither a plain file nor a folder: no kit has such", name)
	case folder && rest != "", file && (rest == "" || !label.IsFileName(rest)), !label.IsFileName(top):
		return fmt.Errorf("%q in it is no path of a kit, which has one folder and files in it", name)
	case l.top != "" && l.top != top:
		return fmt.Errorf("%q and %q are both at its top: a kit has one folder", l.top, top)
	}
	l.top = top
	return nil
}

// sparse reports whether a file of a tape archive has holes, which only some programs fill.
func sparse(h *tar.Header) bool {
	for k := range h.PAXRecords {
		if strings.HasPrefix(k, "GNU.sparse") {
			return true
		}
	}
	return false
}

// take reads one file of an archive, within the bounds.
func (l *looking) take(name string, r io.Reader) error {
	if l.files++; l.files > mostFiles {
		return errTooMuch
	}
	data, err := io.ReadAll(io.LimitReader(r, mostFile+1))
	if errors.Is(err, errTooMuch) {
		return err
	}
	if err != nil {
		return fmt.Errorf("%s in it cannot be read: %w", name, err)
	}
	if l.bytes += int64(len(data)); l.bytes > mostContent {
		return errTooMuch
	}
	if l.keep != nil {
		if _, twice := l.keep[name]; twice {
			return fmt.Errorf("%s is in it twice", name)
		}
		l.keep[name] = data
		return nil
	}
	source := l.name + ": " + path.Clean("/" + strings.ReplaceAll(name, `\`, "/"))[1:]
	if len(data) > mostFile {
		l.out = append(l.out, Found{Source: source, Note: fmt.Sprintf("it is larger than %d MB", mostFile>>20)})
		return nil
	}
	l.file(source, data)
	return nil
}

func (l *looking) file(source string, data []byte) {
	f := Found{Source: source}
	c, err := bundle.Read(data)
	if err == nil {
		for _, o := range c.Of(bundle.Certificate) {
			x, err := cert.Read(o.DER)
			if err != nil {
				f.Note = err.Error()
				continue
			}
			f.Certificates = append(f.Certificates, x)
		}
	}
	switch {
	case len(f.Certificates) > 0:
	case err != nil:
		f.Note = err.Error()
	case f.Note == "" && len(c.Objects) > 0:
		f.Note = fmt.Sprintf("it holds a %s", c.Objects[0].Kind)
	case f.Note == "":
		f.Note = "it holds nothing of this trade"
	}
	l.out = append(l.out, f)
}

func (l *looking) zip(data []byte) error {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	if len(z.File) > mostFiles {
		return errTooMuch
	}
	for _, f := range z.File {
		if err := l.plain(f.Name, f.Mode().IsRegular(), f.Mode().IsDir()); err != nil {
			return err
		}
		if !f.Mode().IsRegular() {
			continue // folders, and links, which lead nowhere here
		}
		r, err := f.Open()
		if err != nil {
			return fmt.Errorf("%s in it: %w", f.Name, err)
		}
		err = l.take(f.Name, r)
		if err = errors.Join(err, r.Close()); err != nil {
			return err
		}
	}
	return nil
}

func (l *looking) tar(r io.Reader) error {
	within := &io.LimitedReader{R: r, N: 2 * mostContent}
	t := tar.NewReader(within)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil && within.N <= 0 {
			return errTooMuch
		}
		if err != nil {
			return err
		}
		if err := l.plain(h.Name, h.Typeflag == tar.TypeReg && !sparse(h), h.Typeflag == tar.TypeDir); err != nil {
			return err
		}
		if h.Typeflag != tar.TypeReg {
			if l.files++; l.files > mostFiles {
				return errTooMuch
			}
			continue
		}
		if err := l.take(h.Name, t); err != nil {
			return err
		}
	}
}
