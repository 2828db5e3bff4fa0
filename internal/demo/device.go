package demo

import (
	"bufio"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"ironseal/internal/disk"
	"ironseal/pki/bundle"
	"ironseal/pki/cert"
	"ironseal/pki/dn"
	"ironseal/pki/ext"
	"ironseal/pki/key"
	"ironseal/pki/path"
)

// device is a small stand-in for a device on the quay: it keeps its key to itself, serves TLS
// on loopback, and imports what lies in its folder when it takes it.
type device struct {
	name, host string // the party, and the name that its certificate is to have
	asked      string // by which people reach it; the host where it is empty
	over       string // "smtp" for what speaks before TLS
	receiver   string
	template   string
	bothUsages bool             // it refuses a certificate that is not for clients too
	oneFile    bool             // it takes one file with everything in order, and no other
	clock      func() time.Time // its own

	folder string
	key    crypto.Signer
	first  [][]byte // what it serves until it has imported something
	addr   string

	mu   sync.Mutex
	says string // why it refused the last import
}

// said is why the device refused its last import.
func (d *device) said() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.says
}

// set sets the device's clock.
func (d *device) set(clock func() time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.clock = clock
}

// begin makes the device's key and its first certificate, and lets it listen. first may say
// otherwise what it serves until then.
func (d *device) begin(dir string) (net.Listener, error) {
	var err error
	if d.key, err = key.Generate(key.P256, rand.Reader); err != nil {
		return nil, err
	}
	return d.listen(dir)
}

// listen lets a device with a key listen.
func (d *device) listen(dir string) (net.Listener, error) {
	var err error
	d.folder = filepath.Join(dir, d.name)
	if err := disk.Dir(d.folder); err != nil {
		return nil, err
	}
	if d.first == nil {
		if d.first, err = d.selfMade(); err != nil {
			return nil, err
		}
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("demo: %w", err)
	}
	d.addr = l.Addr().String()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go d.serve(c)
		}
	}()
	return l, nil
}

// selfMade is what devices make for themselves, dated by their own clock.
func (d *device) selfMade() ([][]byte, error) {
	pub, err := key.Of(d.key)
	if err != nil {
		return nil, err
	}
	subject, err := dn.New(dn.Pair{Type: "CN", Value: d.name})
	if err != nil {
		return nil, err
	}
	now := d.clock().UTC().Truncate(time.Second)
	der, err := cert.Draft{Serial: big.NewInt(now.Unix()), Subject: subject, Issuer: subject, NotBefore: now.AddDate(0,
		-1, 0),
		NotAfter: now.AddDate(10, 0, 0), SPKI: pub.SPKI, Extensions: ext.Set{ext.Basic{PathLength: -1}.Extension(),
			ext.KeyID(pub.Identifier())}}.Sign(d.key, rand.Reader)
	return [][]byte{der}, err
}

func (d *device) serve(c net.Conn) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(10 * time.Second))
	if d.over == "smtp" && !greets(c) {
		return
	}
	chain := d.presents()
	_ = tls.Server(c, &tls.Config{Certificates: []tls.Certificate{{Certificate: chain, PrivateKey: d.key}}}).Handshake()
}

// presents is what the device has imported; what it made for itself where it has nothing.
func (d *device) presents() [][]byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	imported, err := d.imported()
	if d.says = ""; err != nil {
		d.says = err.Error()
	}
	if imported == nil {
		return d.first
	}
	return imported
}

// greets speaks as a mail host does before TLS.
func greets(c net.Conn) bool {
	r := bufio.NewReaderSize(c, 16)
	fmt.Fprint(c, "220 mail ready\r\n")
	for _, step := range [][2]string{{"EHLO", "250-mail\r\n250 STARTTLS\r\n"}, {"STARTTLS", "220 go ahead\r\n"}} {
		line, err := r.ReadString('\n')
		if err != nil || !strings.HasPrefix(line, step[0]) {
			return false
		}
		fmt.Fprint(c, step[1])
	}
	return true
}

// imported is the newest handover in the device's folder, where the device takes it.
func (d *device) imported() ([][]byte, error) {
	pattern := "*/*.with-issuers.pem"
	if d.oneFile {
		pattern = "*/*.all.pem"
	}
	files, err := filepath.Glob(filepath.Join(d.folder, pattern))
	if err != nil || len(files) == 0 {
		return nil, err
	}
	newest := slices.MaxFunc(files, func(a, b string) int { return changed(a).Compare(changed(b)) })
	data, err := disk.Read(newest, 1<<20)
	if err != nil {
		return nil, err
	}
	found, err := bundle.Read(data)
	if err != nil {
		return nil, err
	}
	var list []*cert.Certificate
	for _, o := range found.Of(bundle.Certificate) {
		c, err := cert.Read(o.DER)
		if err != nil {
			return nil, err
		}
		list = append(list, c)
	}
	if err := d.takes(list); err != nil {
		return nil, err
	}
	var chain [][]byte
	for _, c := range list {
		if !c.SelfSigned() {
			chain = append(chain, c.Raw)
		}
	}
	return chain, nil
}

func changed(file string) time.Time {
	info, err := os.Stat(file)
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

// takes refuses what the device would.
func (d *device) takes(list []*cert.Certificate) error {
	pub, err := key.Of(d.key)
	if err != nil {
		return err
	}
	leaf := list[0]
	client, err := ext.ParseExtendedUsage("clientAuth")
	switch {
	case err != nil:
		return err
	case !key.Same(leaf.Key, pub):
		return errors.New("the certificate belongs to another key")
	case d.clock().Before(leaf.NotBefore):
		return fmt.Errorf("the certificate is not valid yet: here it is %s", d.clock().Format("2006-01-02"))
	case d.bothUsages && !path.Permits(leaf.Extended, client):
		return errors.New("the certificate is not for clients")
	case d.oneFile && (len(list) < 3 || len(path.OrderFindings(list)) > 0):
		return errors.New("the file is to hold everything in order")
	}
	return nil
}
