package machine

import (
	"bytes"
	"context"
	"crypto/sha1" // as a name: older databases know certificates by it
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"path/filepath"

	"ironseal/internal/store/foreign"
)

// Browsers keep the roots that a person trusts in a database of their own, which holds
// PKCS#11 objects in a table: a column for each attribute, named by its number in hex.
// Certificates are one kind of object; another says of a certificate, by its hash, what it is
// trusted for. Version 3.2 of the standard has numbers for that (section 4.17); before, the
// browsers' library had its own.
const (
	objectTable = "nssPublic"
	classOf     = "a0"
	valueOf     = "a11"

	certificateClass = 0x01
	trustClass       = 0x0b
	ownTrustClass    = 0xce534353

	forServers, hashOfCertificate = "a62c", "a635" // by the standard
	ownForServers, ownHash        = "ace536358", "ace5363b4"
	anchor, ownAnchor             = 0x02, 0xce534352
)

// profiles finds the databases of the browsers of whoever runs this.
func (m Machine) profiles() (out []Store) {
	for _, p := range m.known().profiles {
		found, _ := filepath.Glob(p.pattern) // a home with * in its name finds nothing
		for _, path := range found {
			out = append(out, m.file(p.name, path, p.kit, ""))
		}
	}
	return out
}

// isDatabase reports whether a file is such a database.
func isDatabase(data []byte) bool { return bytes.HasPrefix(data, []byte("SQLite format 3\x00")) }

// mostObjects bounds how many objects of a database are read.
const mostObjects = 10_000

// ofDatabase reads the certificates of a database that are trusted for servers.
func ofDatabase(path string) ([][]byte, error) {
	var certificates [][]byte
	trusted := map[string]bool{} // by hash
	err := foreign.Table(context.Background(), path, objectTable, mostObjects, func(row map[string][]byte) {
		switch numberOf(row[classOf]) {
		case certificateClass:
			certificates = append(certificates, row[valueOf])
		case trustClass:
			if numberOf(row[forServers]) == anchor {
				trusted[string(row[hashOfCertificate])] = true
			}
		case ownTrustClass:
			if numberOf(row[ownForServers]) == ownAnchor {
				trusted[string(row[ownHash])] = true
			}
		}
	})
	if err != nil {
		if errors.Is(err, foreign.ErrNoTable) {
			return nil, errors.New("it is a database, and not a browser's")
		}
		return nil, err
	}
	var out [][]byte
	for _, der := range certificates {
		now, before := sha256.Sum256(der), sha1.Sum(der)
		if trusted[string(now[:])] || trusted[string(before[:])] {
			out = append(out, der)
		}
	}
	return out, nil
}

func numberOf(b []byte) uint32 {
	if len(b) != 4 {
		return 0
	}
	return binary.BigEndian.Uint32(b)
}
