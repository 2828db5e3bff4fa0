package pkcs

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"unicode/utf16"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/key"
	"ironseal/pki/pbes"
)

// ErrPassword says that the password does not open the file.
var ErrPassword = errors.New("the password does not open it")

// ReadStore opens a PKCS#12 file, BER or DER, of any profile that is in use.
func ReadStore(data, password []byte) ([]StoreEntry, error) {
	der, err := ber.ToDER(data)
	if err != nil {
		return nil, fmt.Errorf("PKCS#12: %w", err)
	}
	in := cryptobyte.String(der)
	var outer, content, safe cryptobyte.String
	var version int
	if !in.ReadASN1(&outer, casn1.SEQUENCE) || !outer.ReadASN1Integer(&version) || version != 3 {
		return nil, errors.New("PKCS#12: it is not a PFX of version 3 (RFC 7292 section 4)")
	}
	if !readContent(&outer, oidData, &content) || !content.ReadASN1(&safe, casn1.OCTET_STRING) {
		return nil, errors.New("PKCS#12: its content cannot be parsed; files protected by a public key are not " +
			"opened here")
	}
	open := outer.Empty()
	if !open {
		if err := checkMAC(outer, safe, password); err != nil {
			return nil, fmt.Errorf("PKCS#12: %w", err)
		}
	}
	// The content is BER on its own, inside its octet string.
	inner, err := ber.ToDER(safe)
	if err != nil {
		return nil, fmt.Errorf("PKCS#12: %w", err)
	}
	s := cryptobyte.String(inner)
	var list cryptobyte.String
	if !s.ReadASN1(&list, casn1.SEQUENCE) {
		return nil, errors.New("PKCS#12: its safe cannot be parsed")
	}
	var out []StoreEntry
	o := opener{password: password, work: pbes.MostIterations}
	for parts := 0; !list.Empty(); parts++ {
		if parts > 64 {
			return nil, errors.New("PKCS#12: more than 64 parts")
		}
		bags, err := o.openPart(&list)
		if err != nil {
			return nil, fmt.Errorf("PKCS#12: %w", err)
		}
		if out, err = o.readBags(bags, out, 0); err != nil {
			return nil, fmt.Errorf("PKCS#12: %w", err)
		}
	}
	if open && slices.ContainsFunc(out, func(e StoreEntry) bool { return e.Signer != nil }) {
		return nil, errors.New("PKCS#12: it has no MAC, so a change of its keys cannot be detected")
	}
	return paired(out), nil
}

func readContent(in *cryptobyte.String, want asn1.ObjectIdentifier, content *cryptobyte.String) bool {
	var info cryptobyte.String
	var oid asn1.ObjectIdentifier
	return in.ReadASN1(&info, casn1.SEQUENCE) && info.ReadASN1ObjectIdentifier(&oid) && oid.Equal(want) &&
		info.ReadASN1(content, context0Outer)
}

func checkMAC(in cryptobyte.String, content, password []byte) error {
	var mac, info, alg, params, sum, salt cryptobyte.String
	var oid asn1.ObjectIdentifier
	rounds := 1
	if !in.ReadASN1(&mac, casn1.SEQUENCE) || !mac.ReadASN1(&info, casn1.SEQUENCE) ||
		!info.ReadASN1(&alg, casn1.SEQUENCE) ||
		!alg.ReadASN1ObjectIdentifier(&oid) || !info.ReadASN1(&sum, casn1.OCTET_STRING) ||
		!mac.ReadASN1(&salt, casn1.OCTET_STRING) {
		return errors.New("its MAC cannot be parsed")
	}
	if !mac.Empty() && !mac.ReadASN1Integer(&rounds) || rounds < 1 || rounds > pbes.MostIterations || len(salt) > 1024 {
		return fmt.Errorf("its MAC asks for work out of bounds: the most is %d rounds", pbes.MostIterations)
	}
	if oid.Equal(oidPBMAC1) {
		if !alg.ReadASN1(&params, casn1.SEQUENCE) {
			return errors.New("its MAC cannot be parsed (RFC 9579)")
		}
		return checkPBMAC1(params, content, password, sum)
	}
	for _, h := range macHashes {
		if !h.oid.Equal(oid) {
			continue
		}
		got, err := pbes.StoreMAC(h.new, content, password, salt, rounds)
		if err != nil {
			return err
		}
		if !hmac.Equal(got, sum) {
			return ErrPassword
		}
		return nil
	}
	return fmt.Errorf("its MAC uses %s, which is not known here", oid)
}

func checkPBMAC1(params cryptobyte.String, content, password, sum []byte) error {
	var kdf, kdfParams, salt, prf, macAlg cryptobyte.String
	var kdfOID, prfOID, macOID asn1.ObjectIdentifier
	var rounds, size int
	if !params.ReadASN1(&kdf, casn1.SEQUENCE) || !kdf.ReadASN1ObjectIdentifier(&kdfOID) || !kdfOID.Equal(oidPBKDF2) ||
		!kdf.ReadASN1(&kdfParams, casn1.SEQUENCE) || !kdfParams.ReadASN1(&salt, casn1.OCTET_STRING) ||
		!kdfParams.ReadASN1Integer(&rounds) ||
		!kdfParams.ReadASN1Integer(&size) || !kdfParams.ReadASN1(&prf, casn1.SEQUENCE) ||
		!prf.ReadASN1ObjectIdentifier(&prfOID) ||
		!params.ReadASN1(&macAlg, casn1.SEQUENCE) || !macAlg.ReadASN1ObjectIdentifier(&macOID) {
		return errors.New("its MAC cannot be parsed (RFC 9579)")
	}
	if rounds < 1 || rounds > pbes.MostIterations || size < 16 || size > 64 || len(salt) > 1024 {
		return errors.New("its MAC asks for work out of bounds (RFC 9579)")
	}
	for _, p := range macHashes {
		for _, m := range macHashes {
			if !p.hmac.Equal(prfOID) || !m.hmac.Equal(macOID) {
				continue
			}
			derived, err := pbkdf2.Key(p.new, string(password), salt, rounds, size)
			if err != nil {
				return err
			}
			x := hmac.New(m.new, derived)
			x.Write(content)
			if !hmac.Equal(x.Sum(nil), sum) {
				return ErrPassword
			}
			return nil
		}
	}
	return errors.New("its MAC uses functions that are not known here (RFC 9579)")
}

// opener opens the parts of one file. Each names its own work, so the work is
// counted over all of them, and refused before it is done.
type opener struct {
	password []byte
	work     int64
}

func (o *opener) afford(cost int64, err error) error {
	if err != nil {
		return err
	}
	if o.work -= cost; o.work < 0 {
		return fmt.Errorf("its parts together ask for work out of bounds: the most is %d rounds", pbes.MostIterations)
	}
	return nil
}

// openPart reads one part of the safe: plain, or encrypted under the password.
func (o *opener) openPart(list *cryptobyte.String) (cryptobyte.String, error) {
	var info, content, bags, enc cryptobyte.String
	var oid asn1.ObjectIdentifier
	if !list.ReadASN1(&info, casn1.SEQUENCE) || !info.ReadASN1ObjectIdentifier(&oid) ||
		!info.ReadASN1(&content, context0Outer) {
		return nil, errors.New("a part cannot be parsed")
	}
	if oid.Equal(oidData) {
		if !content.ReadASN1(&bags, casn1.OCTET_STRING) {
			return nil, errors.New("a part cannot be parsed")
		}
		return bags, nil
	}
	var body, alg cryptobyte.String
	var version int
	if !oid.Equal(oidEncrypted) || !content.ReadASN1(&body, casn1.SEQUENCE) || !body.ReadASN1Integer(&version) ||
		!body.ReadASN1(&enc, casn1.SEQUENCE) ||
		!enc.ReadASN1ObjectIdentifier(&oid) || !enc.ReadASN1Element(&alg, casn1.SEQUENCE) {
		return nil, errors.New("a encrypted part cannot be parsed")
	}
	var encrypted cryptobyte.String
	switch {
	case enc.PeekASN1Tag(context0):
		enc.ReadASN1(&encrypted, context0)
	case enc.PeekASN1Tag(context0Outer): // in pieces
		var pieces cryptobyte.String
		enc.ReadASN1(&pieces, context0Outer)
		whole, err := ber.Joined(pieces)
		if err != nil {
			return nil, fmt.Errorf("a encrypted part: %w", err)
		}
		encrypted = whole
	}
	if err := o.afford(pbes.CostOfBytes(alg, encrypted)); err != nil {
		return nil, err
	}
	plain, err := pbes.DecryptBytes(alg, encrypted, o.password)
	if errors.Is(err, pbes.ErrPassphrase) {
		err = ErrPassword
	}
	return plain, err
}

func (o *opener) readBags(in cryptobyte.String, out []StoreEntry, depth int) ([]StoreEntry, error) {
	der, err := ber.ToDER(in)
	if err != nil {
		return nil, err
	}
	s := cryptobyte.String(der)
	var list cryptobyte.String
	if !s.ReadASN1(&list, casn1.SEQUENCE) || depth > 4 {
		return nil, errors.New("its bags cannot be parsed")
	}
	for !list.Empty() {
		var bag, value cryptobyte.String
		var oid asn1.ObjectIdentifier
		if !list.ReadASN1(&bag, casn1.SEQUENCE) || !bag.ReadASN1ObjectIdentifier(&oid) ||
			!bag.ReadASN1(&value, context0Outer) || len(out) >= MostObjects {
			return nil, errors.New("a bag cannot be parsed")
		}
		if oid.Equal(oidSafeBag) {
			if out, err = o.readBags(value, out, depth+1); err != nil {
				return nil, err
			}
			continue
		}
		e, known, err := o.readBag(oid, value)
		if err != nil {
			return nil, err
		}
		if known {
			e.readAttributes(bag)
			out = append(out, e)
		}
	}
	return out, nil
}

func (o *opener) readBag(oid asn1.ObjectIdentifier, value cryptobyte.String) (e StoreEntry, known bool, err error) {
	switch {
	case oid.Equal(oidCertBag):
		var bag, wrapped, der cryptobyte.String
		var kind asn1.ObjectIdentifier
		if !value.ReadASN1(&bag, casn1.SEQUENCE) || !bag.ReadASN1ObjectIdentifier(&kind) ||
			!bag.ReadASN1(&wrapped, context0Outer) || !wrapped.ReadASN1(&der, casn1.OCTET_STRING) {
			return e, false, errors.New("a certificate bag cannot be parsed")
		}
		e.Certificate = append([]byte(nil), der...)
		return e, kind.Equal(oidX509Cert), nil
	case oid.Equal(oidShroudedKey):
		if err := o.afford(pbes.CostOf(value)); err != nil {
			return e, false, err
		}
		if e.Signer, err = pbes.Decrypt(value, o.password); errors.Is(err, pbes.ErrPassphrase) {
			err = ErrPassword
		}
		return e, err == nil, err
	case oid.Equal(oidKeyBag):
		e.Signer, err = key.ReadPrivate(value)
		return e, err == nil, err
	}
	return e, false, nil // lists and secrets are passed over
}

func (e *StoreEntry) readAttributes(bag cryptobyte.String) {
	var set cryptobyte.String
	if !bag.ReadASN1(&set, casn1.SET) {
		return
	}
	for !set.Empty() {
		var attr, values, text cryptobyte.String
		var oid asn1.ObjectIdentifier
		if !set.ReadASN1(&attr, casn1.SEQUENCE) || !attr.ReadASN1ObjectIdentifier(&oid) ||
			!attr.ReadASN1(&values, casn1.SET) {
			return
		}
		switch {
		case oid.Equal(oidFriendlyName) && values.ReadASN1(&text, casn1.Tag(30)):
			u := make([]uint16, len(text)/2)
			for i := range u {
				u[i] = binary.BigEndian.Uint16(text[2*i:])
			}
			e.Name = string(utf16.Decode(u))
		case oid.Equal(oidLocalKey) && values.ReadASN1(&text, casn1.OCTET_STRING):
			e.localKey = append([]byte(nil), text...)
		case oid.Equal(oidJavaTrust):
			e.Anchor = true
		}
	}
}

// paired puts keys first and the certificates that belong to them next.
func paired(list []StoreEntry) []StoreEntry {
	var keys, own, rest []StoreEntry
	for _, e := range list {
		if e.Signer != nil {
			keys = append(keys, e)
		}
	}
	for _, e := range list {
		mine := false
		for _, k := range keys {
			mine = mine || e.Signer == nil && len(k.localKey) > 0 && string(k.localKey) == string(e.localKey)
		}
		switch {
		case e.Signer != nil:
		case mine:
			e.OfKey = true
			own = append(own, e)
		default:
			rest = append(rest, e)
		}
	}
	return append(append(keys, own...), rest...)
}
