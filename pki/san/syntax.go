package san

import (
	"encoding/asn1"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/dn"
)

// Well-formed is less than valid: a name may be one that no client matches and still
// be written as RFC 5280 section 4.2.1.6 says. What is not even that, no one can tell
// the meaning of, and a certificate that holds it is not understood.

// Syntax says why one GeneralName, given whole, is not well-formed, or nil. bases says
// that it is the base of a name constraint, where a network means an address.
func Syntax(whole []byte, bases bool) error {
	in := cryptobyte.String(whole)
	var body cryptobyte.String
	var tag casn1.Tag
	if !in.ReadAnyASN1(&body, &tag) || !in.Empty() {
		return errors.New("a name is cut short")
	}
	switch tag {
	case tags[DNS], tags[Email], tags[URI]:
		for _, b := range body {
			if b > 0x7e || b < 0x20 {
				return errors.New("a name has characters that are no IA5String")
			}
		}
	case tags[IP]:
		if n := len(body); !bases && n != 4 && n != 16 || bases && n != 8 && n != 32 {
			return fmt.Errorf("an address of %d bytes", len(body))
		}
	case directoryTag:
		_, err := dn.Read(body)
		return err
	case oidTag:
		if !isOID(body) {
			return errors.New("a registered identifier cannot be parsed")
		}
	case otherTag:
		var id, value cryptobyte.String
		if !body.ReadASN1(&id, casn1.OBJECT_IDENTIFIER) || !isOID(id) || !body.ReadASN1(&value, otherTag) ||
			!body.Empty() {
			return errors.New("a name of another kind cannot be parsed")
		}
	case casn1.Tag(3).ContextSpecific().Constructed(), casn1.Tag(5).ContextSpecific().Constructed():
		return errors.New("an X.400 or EDI name, which no client reads")
	default:
		return fmt.Errorf("there is no name of the tag %d", uint8(tag))
	}
	return nil
}

func isOID(content []byte) bool {
	var b cryptobyte.Builder
	b.AddASN1(casn1.OBJECT_IDENTIFIER, func(b *cryptobyte.Builder) { b.AddBytes(content) })
	der, err := b.Bytes()
	in := cryptobyte.String(der)
	var id asn1.ObjectIdentifier
	return err == nil && in.ReadASN1ObjectIdentifier(&id)
}
