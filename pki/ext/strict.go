package ext

import (
	"encoding/asn1"
	"errors"
	"fmt"

	"golang.org/x/crypto/cryptobyte"
	casn1 "golang.org/x/crypto/cryptobyte/asn1"

	"ironseal/pki/san"
)

// FreshestID is the extension that names where delta lists are (section 4.2.1.15).
var FreshestID = asn1.ObjectIdentifier{2, 5, 29, 46}

// Check says why an extension of a known kind cannot be parsed, or nil; of a kind that is
// not known it says nothing. A certificate with one that cannot be parsed is not
// understood: what it forbids may be in there.
func (e Extension) Check() error {
	if e.Loose != "" {
		return fmt.Errorf("extension %s: %s", NameOf(e.ID), e.Loose)
	}
	var err error
	switch {
	case e.ID.Equal(AltNames):
		err = generalNames(e.Value, casn1.SEQUENCE)
	case e.ID.Equal(CRLPoints), e.ID.Equal(FreshestID):
		err = points(e.Value)
	case e.ID.Equal(InfoAccess):
		err = access(e.Value)
	case e.ID.Equal(PoliciesID):
		err = policies(e.Value)
	case e.ID.Equal(PolicyMappings):
		_, err = ReadMappings(e.Value)
	case e.ID.Equal(PolicyLimits):
		_, err = ReadLimits(e.Value)
	case e.ID.Equal(InhibitAny):
		_, err = ReadInhibitAny(e.Value)
	case e.ID.Equal(BasicID):
		_, err = ReadBasic(e.Value)
	case e.ID.Equal(KeyUsageID):
		_, err = ReadKeyUsage(e.Value)
	case e.ID.Equal(ExtendedUsage):
		var ids []asn1.ObjectIdentifier
		if ids, err = ReadExtendedUsage(e.Value); err == nil && len(ids) == 0 {
			err = errors.New("it is empty")
		}
	case e.ID.Equal(SubjectKeyID):
		_, err = ReadKeyID(e.Value)
	case e.ID.Equal(AuthorityKeyID):
		err = authorityKey(e.Value)
	case e.ID.Equal(NameConstraintID):
		_, err = ReadConstraints(e.Value)
	}
	if err != nil {
		return fmt.Errorf("extension %s: %w", NameOf(e.ID), err)
	}
	return nil
}

// generalNames checks GeneralNames under a tag: one at least, each well-formed.
func generalNames(value []byte, tag casn1.Tag) error {
	in := cryptobyte.String(value)
	var list cryptobyte.String
	if !in.ReadASN1(&list, tag) || !in.Empty() || list.Empty() {
		return errors.New("it is not a list of names")
	}
	for !list.Empty() {
		var one cryptobyte.String
		var t casn1.Tag
		if !list.ReadAnyASN1Element(&one, &t) {
			return errors.New("a name is cut short")
		}
		if err := san.Syntax(one, false); err != nil {
			return err
		}
	}
	return nil
}

// points checks distribution points (section 4.2.1.13).
func points(value []byte) error {
	in := cryptobyte.String(value)
	var list cryptobyte.String
	if !in.ReadASN1(&list, casn1.SEQUENCE) || !in.Empty() || list.Empty() {
		return errors.New("it is not a list of points")
	}
	for !list.Empty() {
		var point, name, reasons, issuer cryptobyte.String
		var hasName, hasReasons, hasIssuer bool
		if !list.ReadASN1(&point, casn1.SEQUENCE) ||
			!point.ReadOptionalASN1(&name, &hasName, casn1.Tag(0).ContextSpecific().Constructed()) ||
			!point.ReadOptionalASN1(&reasons, &hasReasons, casn1.Tag(1).ContextSpecific()) ||
			!point.PeekASN1Tag(casn1.Tag(2).ContextSpecific().Constructed()) && !point.Empty() {
			return errors.New("a point cannot be parsed")
		}
		if !point.Empty() {
			if !point.ReadASN1Element(&issuer, casn1.Tag(2).ContextSpecific().Constructed()) || !point.Empty() {
				return errors.New("a point cannot be parsed")
			}
			hasIssuer = true
			if err := generalNames(issuer, casn1.Tag(2).ContextSpecific().Constructed()); err != nil {
				return err
			}
		}
		if !hasName && !hasIssuer {
			return errors.New("a point names nothing")
		}
		if hasName && name.PeekASN1Tag(casn1.Tag(0).ContextSpecific().Constructed()) {
			if err := generalNames(name, casn1.Tag(0).ContextSpecific().Constructed()); err != nil {
				return err
			}
		} else if hasName && !name.PeekASN1Tag(casn1.Tag(1).ContextSpecific().Constructed()) {
			return errors.New("the name of a point cannot be parsed")
		}
	}
	return nil
}

// access checks authority information access (section 4.2.2.1).
func access(value []byte) error {
	in := cryptobyte.String(value)
	var list cryptobyte.String
	if !in.ReadASN1(&list, casn1.SEQUENCE) || !in.Empty() || list.Empty() {
		return errors.New("it is not a list of addresses")
	}
	for !list.Empty() {
		var one, name cryptobyte.String
		var method asn1.ObjectIdentifier
		var tag casn1.Tag
		if !list.ReadASN1(&one, casn1.SEQUENCE) || !one.ReadASN1ObjectIdentifier(&method) ||
			!one.ReadAnyASN1Element(&name, &tag) || !one.Empty() {
			return errors.New("an address cannot be parsed")
		}
		if err := san.Syntax(name, false); err != nil {
			return err
		}
	}
	return nil
}

func policies(value []byte) error {
	ids, err := ReadPolicies(value)
	if err != nil {
		return err
	}
	seen := map[string]bool{}
	for _, id := range ids {
		if seen[id.String()] {
			return errors.New("a policy stands twice")
		}
		seen[id.String()] = true
	}
	if len(ids) == 0 {
		return errors.New("it is empty")
	}
	return nil
}

// authorityKey checks an authority key identifier (section 4.2.1.1).
func authorityKey(value []byte) error {
	in := cryptobyte.String(value)
	var seq, id, serial, issuer cryptobyte.String
	var there bool
	if !in.ReadASN1(&seq, casn1.SEQUENCE) || !in.Empty() ||
		!seq.ReadOptionalASN1(&id, &there, casn1.Tag(0).ContextSpecific()) {
		return errors.New("it cannot be parsed")
	}
	if seq.PeekASN1Tag(casn1.Tag(1).ContextSpecific().Constructed()) {
		if !seq.ReadASN1Element(&issuer, casn1.Tag(1).ContextSpecific().Constructed()) {
			return errors.New("its issuer cannot be parsed")
		}
		if err := generalNames(issuer, casn1.Tag(1).ContextSpecific().Constructed()); err != nil {
			return err
		}
	}
	if !seq.ReadOptionalASN1(&serial, &there, casn1.Tag(2).ContextSpecific()) || !seq.Empty() {
		return errors.New("it cannot be parsed")
	}
	return nil
}
