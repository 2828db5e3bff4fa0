package ocsp

import (
	"crypto/sha1"
	"time"

	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/ber"
	"ironseal/pki/cert"
	"ironseal/pki/revocation"
)

// Responses are encoded by hand, for drafts and batches alike. A batch makes thousands, of a dozen elements each.

// tlv appends an element.
func tlv(to []byte, tag casn1.Tag, content ...[]byte) []byte {
	return ber.Append(to, byte(tag), content...)
}

func generalized(t time.Time) []byte {
	return tlv(nil, casn1.GeneralizedTime, []byte(whole(t).Format("20060102150405Z")))
}

func whole(t time.Time) time.Time { return t.UTC().Truncate(time.Second) }

// sha1ID is the AlgorithmIdentifier of SHA-1.
var sha1ID = []byte{0x30, 9, 6, 5, 0x2b, 0x0e, 3, 2, 0x1a, 5, 0}

// basicID is the identifier of basic responses.
var basicID = []byte{6, 9, 0x2b, 6, 1, 5, 5, 7, 0x30, 1, 1}

// responderID names the responder by its key's bits: that is shorter than its name.
func responderID(bits []byte) []byte {
	sum := sha1.Sum(bits)
	return tlv(nil, explicit2, tlv(nil, casn1.OCTET_STRING, sum[:]))
}

// attached is the field certs with the responder's certificate.
func attached(responder *cert.Certificate) []byte {
	return tlv(nil, explicit0, tlv(nil, casn1.SEQUENCE, responder.Raw))
}

// told is a CertStatus. The time and the reason are of a revocation.
func told(status Status, at time.Time, reason revocation.Reason) []byte {
	switch status {
	case Good:
		return []byte{byte(tag0), 0}
	case Revoked:
		why := []byte(nil)
		if reason != revocation.Unspecified {
			why = []byte{byte(explicit0), 3, byte(casn1.ENUM), 1, byte(reason)}
		}
		return tlv(nil, explicit1, generalized(at), why)
	}
	return []byte{byte(tag2), 0}
}

// singleResponse is a SingleResponse. The parts next and extensions may be empty; they have their tags.
func singleResponse(id, status, this, next, extensions []byte) []byte {
	return tlv(nil, casn1.SEQUENCE, id, status, this, next, extensions)
}

// responseData is the part that is signed (RFC 6960 section 4.2.1). The extensions may be empty.
func responseData(responder, at, singles, extensions []byte) []byte {
	return tlv(make([]byte, 0, len(singles)+len(extensions)+64), casn1.SEQUENCE, responder, at,
		tlv(nil, casn1.SEQUENCE, singles), extensions)
}

// response is a successful response with a basic response in it. The certificates may be empty.
func response(tbs, algorithm, signature, certs []byte) []byte {
	basic := tlv(make([]byte, 0, len(tbs)+len(certs)+256), casn1.SEQUENCE, tbs, algorithm,
		tlv(nil, casn1.BIT_STRING, []byte{0}, signature), certs)
	return tlv(nil, casn1.SEQUENCE, []byte{byte(casn1.ENUM), 1, byte(Successful)},
		tlv(nil, explicit0, tlv(nil, casn1.SEQUENCE, basicID, tlv(nil, casn1.OCTET_STRING, basic))))
}

// integer is a serial as an INTEGER holds it.
func integer(s cert.Serial) []byte {
	n := s.Big()
	if n.Sign() < 0 {
		return []byte{0} // no answer is made about such a serial
	}
	raw := n.Bytes()
	if len(raw) == 0 || raw[0]&0x80 != 0 {
		return append([]byte{0}, raw...)
	}
	return raw
}
