package machine

import (
	"errors"
	"fmt"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"

	"ironseal/pki/advice"
	"ironseal/pki/fault"
)

var (
	crypt       = windows.NewLazySystemDLL("crypt32.dll")
	setProperty = crypt.NewProc("CertSetCertificateContextProperty")
	getProperty = crypt.NewProc("CertGetCertificateContextProperty")
	control     = crypt.NewProc("CertControlStore")
)

// commit is the control by which a store keeps what was changed.
const commit = 3

// friendlyName is the number of the property that is shown as a certificate's name.
const friendlyName = 11

// systemRoots is a store of roots that Windows keeps.
type systemRoots struct {
	path  string
	store windows.Handle
}

func openRoots(path string, change bool) (rootStore, error) {
	flags := uint32(0)
	if !change {
		flags |= windows.CERT_STORE_READONLY_FLAG | windows.CERT_STORE_OPEN_EXISTING_FLAG
	}
	if path == MachineRoots {
		flags |= windows.CERT_SYSTEM_STORE_LOCAL_MACHINE
	} else {
		flags |= windows.CERT_SYSTEM_STORE_CURRENT_USER
	}
	name, err := windows.UTF16PtrFromString("Root")
	if err != nil {
		return nil, err
	}
	h, err := windows.CertOpenStore(windows.CERT_STORE_PROV_SYSTEM, 0, 0, flags, uintptr(unsafe.Pointer(name)))
	if errors.Is(err, windows.ERROR_ACCESS_DENIED) {
		return nil, noRights(path, err)
	}
	if errors.Is(err, windows.ERROR_FILE_NOT_FOUND) && !change {
		return systemRoots{path, 0}, nil // a user's store is made when something is put into it
	}
	if err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", path, err)
	}
	return systemRoots{path, h}, nil
}

func (s systemRoots) Close() error {
	if s.store == 0 {
		return nil
	}
	return windows.CertCloseStore(s.store, 0)
}

// keep writes changes where they last. A store that always does so says that it knows no such call.
func (s systemRoots) keep() error {
	ok, _, err := control.Call(uintptr(s.store), 0, commit, 0)
	if ok == 0 && !errors.Is(err, windows.ERROR_CALL_NOT_IMPLEMENTED) {
		return err
	}
	return nil
}

func der(c *windows.CertContext) []byte { return unsafe.Slice(c.EncodedCert, c.Length) }

// each calls fn with every certificate of the store, until it says that it is enough.
func (s systemRoots) each(fn func(c *windows.CertContext) (enough bool)) error {
	if s.store == 0 {
		return nil
	}
	for c, err := windows.CertEnumCertificatesInStore(s.store, nil); ; c, err = windows.CertEnumCertificatesInStore(
		s.store, c) {
		switch {
		case c == nil && (err == nil || errors.Is(err, windows.Errno(windows.CRYPT_E_NOT_FOUND)) ||
			errors.Is(err, windows.ERROR_NO_MORE_FILES)):
			return nil
		case c == nil:
			return fmt.Errorf("%s: %w", s.path, err)
		case fn(c):
			return windows.CertFreeCertificateContext(c)
		}
	}
}

func (s systemRoots) Each(fn func(der []byte, name string)) error {
	return s.each(func(c *windows.CertContext) bool {
		fn(slices.Clone(der(c)), nameGiven(c))
		return false
	})
}

// nameGiven is the name that a certificate has in a store, "" for none.
func nameGiven(c *windows.CertContext) string {
	text := make([]uint16, 512)
	size := uint32(2 * len(text))
	ok, _, _ := getProperty.Call(uintptr(unsafe.Pointer(c)), friendlyName, uintptr(unsafe.Pointer(&text[0])),
		uintptr(unsafe.Pointer(&size)))
	if ok == 0 {
		return ""
	}
	return windows.UTF16ToString(text[:size/2])
}

func (s systemRoots) Add(der []byte, name string) error {
	c, err := windows.CertCreateCertificateContext(windows.X509_ASN_ENCODING, &der[0], uint32(len(der)))
	if err != nil {
		return err
	}
	defer windows.CertFreeCertificateContext(c)
	text, err := windows.UTF16FromString(name)
	if err != nil {
		return err
	}
	blob := windows.CryptDataBlob{Size: uint32(2 * len(text)), Data: (*byte)(unsafe.Pointer(&text[0]))}
	if ok, _, err := setProperty.Call(uintptr(unsafe.Pointer(c)), friendlyName, 0,
		uintptr(unsafe.Pointer(&blob))); ok == 0 {
		return err
	}
	if err = windows.CertAddCertificateContextToStore(s.store, c, windows.CERT_STORE_ADD_NEW, nil); err == nil {
		err = s.keep()
	}
	if errors.Is(err, windows.ERROR_ACCESS_DENIED) {
		return noRights(s.path, err)
	}
	return err
}

func (s systemRoots) Remove(wanted []byte) error {
	var found *windows.CertContext
	err := s.each(func(c *windows.CertContext) bool {
		if string(der(c)) == string(wanted) {
			found = windows.CertDuplicateCertificateContext(c)
		}
		return found != nil
	})
	if err != nil || found == nil {
		return err
	}
	if err = windows.CertDeleteCertificateFromStore(found); err == nil {
		err = s.keep()
	}
	if errors.Is(err, windows.ERROR_ACCESS_DENIED) {
		return noRights(s.path, err)
	}
	return err
}

// noRights says that only an administrator may change a store.
func noRights(path string, err error) error {
	if path == UserRoots {
		return fmt.Errorf("%s cannot be opened: %w", path, err)
	}
	return fault.New(fault.Unavailable, "%s cannot be changed: administrator rights are needed: %w", path, err).Then(
		advice.Say("start the shell as administrator"), advice.To("or use your own store", advice.DropMine))
}
