package ext

import (
	"encoding/asn1"
	"errors"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"
)

// Mapping says that an issuer's policy is equal to one of the subject's (RFC
// 5280 section 4.2.1.5).
type Mapping struct {
	Issuer, Subject asn1.ObjectIdentifier
}

// ReadMappings decodes policy mappings.
func ReadMappings(value []byte) ([]Mapping, error) {
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return nil, errors.New("policy mappings: not one ASN.1 sequence")
	}
	var out []Mapping
	for !seq.Empty() {
		var one cryptobyte.String
		var m Mapping
		if !seq.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&m.Issuer) ||
			!one.ReadASN1ObjectIdentifier(&m.Subject) || len(out) == Most {
			return out, errors.New("policy mappings: a pair cannot be parsed")
		}
		out = append(out, m)
	}
	return out, nil
}

// Limits are policy constraints (section 4.2.1.11): after how many further
// certificates a policy must be explicit, and mapping is forbidden; -1 where
// there is no such limit.
type Limits struct {
	Explicit, Mapping int
}

// ReadLimits decodes policy constraints.
func ReadLimits(value []byte) (Limits, error) {
	out := Limits{-1, -1}
	in := cryptobyte.String(value)
	var seq cryptobyte.String
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() {
		return out, errors.New("policy constraints: not one ASN.1 sequence")
	}
	for i, into := range []*int{&out.Explicit, &out.Mapping} {
		tag := casn1.Tag(i).ContextSpecific()
		if !seq.PeekASN1Tag(tag) {
			continue
		}
		var n int64
		if !seq.ReadASN1Int64WithTag(&n, tag) || n < 0 {
			return out, errors.New("policy constraints: a number cannot be parsed")
		}
		*into = int(min(n, 1<<20))
	}
	if !seq.Empty() {
		return out, errors.New("policy constraints: something unknown follows")
	}
	return out, nil
}

// ReadInhibitAny decodes that number.
func ReadInhibitAny(value []byte) (int, error) {
	in := cryptobyte.String(value)
	var n int64
	if !in.ReadASN1Integer(&n) || !in.Empty() || n < 0 {
		return 0, errors.New("inhibit any-policy: not a number")
	}
	return int(min(n, 1<<20)), nil
}
