package probe

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"net"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
	"golang.org/x/crypto/cryptobyte"
)

// The library drops a chain that it does not parse. What it read is kept beside it, and so are
// the secrets of the handshake; from both the certificates are read again, as they were sent,
// by the code below (RFC 5246 section 7.4, RFC 8446 sections 4.4.2, 5 and 7.3).

// tap is a connection that keeps what a peer sends until the handshake has ended, within
// bounds.
type tap struct {
	net.Conn
	left    int // bytes that may still come
	keeps   bool
	kept    bytes.Buffer
	secrets bytes.Buffer // in the form of SSLKEYLOGFILE (RFC 9850)
}

const mostKept = 512 << 10

var errTooMuch = errors.New("it sends more than a handshake has")

func (t *tap) begin() { t.keeps = true }

func (t *tap) Read(b []byte) (int, error) {
	n, err := t.Conn.Read(b)
	if t.left -= n; t.left < 0 {
		return 0, errTooMuch
	}
	if t.keeps && t.kept.Len()+n <= mostKept {
		t.kept.Write(b[:n])
	}
	return n, err
}

// Handshake messages that matter here.
const (
	serverHello        = 2
	certificateMessage = 11
	certificateRequest = 13
)

// recover reads from what was kept what the server presented and asked for.
func (t *tap) recover(out *Answer) {
	r := reader{data: t.kept.Bytes(), secret: t.secret()}
	for {
		kind, body, err := r.message()
		if err != nil {
			return
		}
		switch kind {
		case serverHello:
			r.hello(body)
			out.Version, out.Cipher = r.version, r.suite
		case certificateMessage:
			out.Raw = certificates(body, r.version)
		case certificateRequest:
			out.Asks = true
		}
	}
}

// secret is the server's handshake traffic secret; nil before TLS 1.3.
func (t *tap) secret() []byte {
	for line := range strings.Lines(t.secrets.String()) {
		if f := strings.Fields(line); len(f) == 3 && f[0] == "SERVER_HANDSHAKE_TRAFFIC_SECRET" {
			s, err := hex.DecodeString(f[2])
			if err == nil {
				return s
			}
		}
	}
	return nil
}

// reader takes records apart into handshake messages.
type reader struct {
	data    []byte // records
	plain   []byte // of handshake messages, not yet taken
	secret  []byte
	version uint16
	suite   uint16
	sealed  cipher.AEAD
	nonce   []byte
	count   uint64
}

var errNoMore = errors.New("no more")

// message is the next whole handshake message.
func (r *reader) message() (kind byte, body []byte, err error) {
	for {
		s := cryptobyte.String(r.plain)
		var whole cryptobyte.String
		if s.ReadUint8(&kind) && s.ReadUint24LengthPrefixed(&whole) {
			r.plain = s
			return kind, whole, nil
		}
		if err := r.record(); err != nil {
			return 0, nil, err
		}
	}
}

// record takes one record: plain, or encrypted under the secret.
func (r *reader) record() error {
	s := cryptobyte.String(r.data)
	var kind uint8
	var version uint16
	var body cryptobyte.String
	if !s.ReadUint8(&kind) || !s.ReadUint16(&version) || !s.ReadUint16LengthPrefixed(&body) {
		return errNoMore
	}
	head := r.data[:5]
	r.data = s
	switch kind {
	case 22:
		r.plain = append(r.plain, body...)
	case 20: // change of cipher: before TLS 1.3 the rest is encrypted, and matters no more
		if r.version != tls.VersionTLS13 {
			return errNoMore
		}
	case 23:
		return r.open(head, body)
	default:
		return errNoMore
	}
	return nil
}

// hello reads which version and suite the server chose.
func (r *reader) hello(body []byte) {
	s := cryptobyte.String(body)
	var session, extensions, value cryptobyte.String
	var compression uint8
	if !s.ReadUint16(&r.version) || !s.Skip(32) || !s.ReadUint8LengthPrefixed(&session) || !s.ReadUint16(&r.suite) ||
		!s.ReadUint8(&compression) || !s.ReadUint16LengthPrefixed(&extensions) {
		return
	}
	var id uint16
	for extensions.ReadUint16(&id) && extensions.ReadUint16LengthPrefixed(&value) {
		if id == 43 { // supported versions
			value.ReadUint16(&r.version)
		}
	}
}

// open opens an encrypted record of TLS 1.3.
func (r *reader) open(head, body []byte) error {
	if r.sealed == nil {
		if err := r.keys(); err != nil {
			return err
		}
	}
	nonce := bytes.Clone(r.nonce)
	for i := range 8 {
		nonce[len(nonce)-1-i] ^= byte(r.count >> (8 * i))
	}
	r.count++
	plain, err := r.sealed.Open(nil, nonce, body, head)
	if err != nil {
		return err
	}
	plain = bytes.TrimRight(plain, "\x00")
	if len(plain) == 0 || plain[len(plain)-1] != 22 {
		return errNoMore
	}
	r.plain = append(r.plain, plain[:len(plain)-1]...)
	return nil
}

// keys derives the key and the nonce of the handshake's records.
func (r *reader) keys() error {
	digest, length := func() hash.Hash { return sha256.New() }, 16
	switch r.suite {
	case tls.TLS_AES_256_GCM_SHA384:
		digest, length = sha512.New384, 32
	case tls.TLS_CHACHA20_POLY1305_SHA256:
		length = 32
	}
	key, err := expand(digest, r.secret, "key", length)
	if err != nil {
		return err
	}
	if r.nonce, err = expand(digest, r.secret, "iv", 12); err != nil {
		return err
	}
	if r.suite == tls.TLS_CHACHA20_POLY1305_SHA256 {
		r.sealed, err = chacha20poly1305.New(key)
		return err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return err
	}
	r.sealed, err = cipher.NewGCM(block)
	return err
}

// expand is HKDF-Expand-Label without a context (RFC 8446 section 7.1).
func expand(digest func() hash.Hash, secret []byte, label string, length int) ([]byte, error) {
	if len(secret) == 0 {
		return nil, errors.New("the secret of the handshake is not known")
	}
	var b cryptobyte.Builder
	b.AddUint16(uint16(length))
	b.AddUint8LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes([]byte("tls13 " + label)) })
	b.AddUint8(0)
	out, err := hkdf.Expand(digest, secret, string(b.BytesOrPanic()), length)
	if err != nil {
		return nil, fmt.Errorf("the keys of the handshake: %w", err)
	}
	return out, nil
}

// certificates takes a Certificate message apart.
func certificates(body []byte, version uint16) (out [][]byte) {
	s := cryptobyte.String(body)
	var context, list, one, extensions cryptobyte.String
	if version == tls.VersionTLS13 && !s.ReadUint8LengthPrefixed(&context) {
		return nil
	}
	if !s.ReadUint24LengthPrefixed(&list) {
		return nil
	}
	for list.ReadUint24LengthPrefixed(&one) {
		out = append(out, one)
		if version == tls.VersionTLS13 && !list.ReadUint16LengthPrefixed(&extensions) {
			break
		}
	}
	return out
}
