package kit

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io/fs"
	"path"
	"time"
)

// Archives are the forms in which a kit can be one file.
func Archives() []string { return []string{"zip", "tar.gz"} }

// Archive puts the files of a kit into one, under a folder. It bears no time, so that the
// same kit is the same archive.
func Archive(form, folder string, files []File) ([]byte, error) {
	var b bytes.Buffer
	var add func(name string, mode fs.FileMode, data []byte) error
	var end func() error
	switch form {
	case "zip":
		w := zip.NewWriter(&b)
		add = func(name string, mode fs.FileMode, data []byte) error {
			h := &zip.FileHeader{Name: name, Method: zip.Deflate}
			h.SetMode(mode)
			f, err := w.CreateHeader(h)
			if err != nil {
				return err
			}
			_, err = f.Write(data)
			return err
		}
		end = w.Close
	case "tar.gz":
		g := gzip.NewWriter(&b)
		w := tar.NewWriter(g)
		add = func(name string, mode fs.FileMode, data []byte) error {
			if err := w.WriteHeader(&tar.Header{Name: name, Mode: int64(mode), Size: int64(len(data)),
				ModTime: time.Unix(0, 0), Format: tar.FormatUSTAR}); err != nil {
				return err
			}
			_, err := w.Write(data)
			return err
		}
		end = func() error {
			if err := w.Close(); err != nil {
				return err
			}
			return g.Close()
		}
	default:
		return nil, fmt.Errorf("%q is no form of an archive: use zip or tar.gz", form)
	}
	for _, f := range files {
		if err := add(path.Join(folder, f.Name), f.Mode(), f.Data); err != nil {
			return nil, err
		}
	}
	if err := end(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// Mode is the file's mode: what a kit holds is no secret, and scripts are run.
func (f File) Mode() fs.FileMode {
	if f.Run {
		return 0o755
	}
	return 0o644
}
