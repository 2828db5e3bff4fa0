package kit

import (
	"archive/tar"
	"bytes"
	"crypto/sha1"
	"encoding/binary"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"

	"ironseal/pki/bundle"
)

// layer is a layer of a container image: the roots where the image's system takes them from.
// It bears no time, so that the same roots are the same layer.
func layer(p Platform, _ Job, items []Item) ([]byte, bool, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	at := ""
	for dir := range strings.SplitSeq(strings.Trim(p.Values["store"], "/"), "/") {
		at += dir + "/"
		if err := w.WriteHeader(&tar.Header{Name: at, Typeflag: tar.TypeDir, Mode: 0o755, ModTime: time.Unix(0, 0),
			Format: tar.FormatUSTAR}); err != nil {
			return nil, false, err
		}
	}
	for _, i := range items {
		pem := bundle.PEM(bundle.Certificate, i.Certificate.Raw)
		if err := w.WriteHeader(&tar.Header{Name: at + i.File + "." + p.Values["ending"], Mode: 0o644,
			Size: int64(len(pem)), ModTime: time.Unix(0, 0), Format: tar.FormatUSTAR}); err != nil {
			return nil, false, err
		}
		if _, err := w.Write(pem); err != nil {
			return nil, false, err
		}
	}
	err := w.Close()
	return b.Bytes(), false, err
}

// registry is the form in which a fleet of Windows machines is given roots by policy: a key
// for each by its SHA-1 thumbprint, whose value is the certificate as a store keeps it, one
// property of number 32 (MS-GPEF section 2.2.1).
func registry(_ Platform, _ Job, items []Item) ([]byte, bool, error) {
	var b strings.Builder
	b.WriteString("Windows Registry Editor Version 5.00\r\n")
	for _, i := range items {
		der := i.Certificate.Raw
		blob := binary.LittleEndian.AppendUint32(nil, 32)
		blob = binary.LittleEndian.AppendUint32(blob, 1)
		blob = binary.LittleEndian.AppendUint32(blob, uint32(len(der)))
		blob = append(blob, der...)
		fmt.Fprintf(&b, "\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Policies\\Microsoft\\SystemCertificates\\Root\\"+
			"Certificates\\%X]\r\n\"Blob\"=hex:%s\r\n", sha1.Sum(der),
			strings.ReplaceAll(fmt.Sprintf("% x", blob), " ", ","))
	}
	out := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(b.String())) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out, false, nil
}
