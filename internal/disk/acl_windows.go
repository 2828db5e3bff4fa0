package disk

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/windows"
)

// me is the user who runs the program.
var me = sync.OnceValues(func() (*windows.SID, error) {
	u, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return nil, err
	}
	return u.User.Sid.Copy()
})

// trusted are who may read a secret: the user, and those who may do anything here.
var trusted = sync.OnceValue(func() (out []*windows.SID) {
	for _, kind := range []windows.WELL_KNOWN_SID_TYPE{windows.WinBuiltinAdministratorsSid,
		windows.WinLocalSystemSid, windows.WinCreatorOwnerSid, windows.WinCreatorOwnerRightsSid} {
		if sid, err := windows.CreateWellKnownSid(kind); err == nil {
			out = append(out, sid)
		}
	}
	if sid, err := me(); err == nil {
		out = append(out, sid)
	}
	return out
})

// closed is a security descriptor for the user, the administrators and the system alone. What is made in a
// folder that has it gets it too.
var closed = sync.OnceValue(func() *windows.SECURITY_DESCRIPTOR {
	text := "D:P(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)"
	if sid, err := me(); err == nil {
		text += "(A;OICI;FA;;;" + sid.String() + ")"
	}
	sd, err := windows.SecurityDescriptorFromString(text)
	if err != nil {
		panic("disk: the system does not take " + text) // a constant but for the user
	}
	return sd
})

// private makes what is created with it the user's alone.
func private() *windows.SecurityAttributes {
	sa := &windows.SecurityAttributes{SecurityDescriptor: closed()}
	sa.Length = uint32(unsafe.Sizeof(*sa))
	return sa
}

// CreateNew makes a file that must not exist. A mode that gives others nothing closes it to them before
// anything is in it.
func CreateNew(path string, mode fs.FileMode) (*os.File, error) {
	if mode.Perm()&0o077 != 0 {
		return os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_EXCL, mode)
	}
	name, err := long(path)
	if err != nil {
		return nil, err
	}
	h, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE,
		windows.FILE_SHARE_READ|windows.FILE_SHARE_WRITE, private(), windows.CREATE_NEW,
		windows.FILE_ATTRIBUTE_NORMAL, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "create", Path: path, Err: err}
	}
	return os.NewFile(uintptr(h), path), nil
}

// makeFolder makes a folder that only the user may read.
func makeFolder(path string) error {
	name, err := long(path)
	if err != nil {
		return err
	}
	if err := windows.CreateDirectory(name, private()); err != nil {
		return &fs.PathError{Op: "mkdir", Path: path, Err: err}
	}
	return nil
}

// setMode does nothing to a file that was just made: it was made with it.
func setMode(*os.File, fs.FileMode) error { return nil }

// setFileSecurity gives a file or folder an access list, and nothing to what is in it.
var setFileSecurity = windows.NewLazySystemDLL("advapi32.dll").NewProc("SetFileSecurityW")

// SetMode closes a file or folder to others where the mode gives them nothing. Else it gives it, and what is in
// it, the rights of the folder that it is in.
func SetMode(path string, mode fs.FileMode) error {
	name, err := long(path)
	if err != nil {
		return err
	}
	if mode.Perm()&0o077 != 0 {
		if err = inherit(windows.UTF16PtrToString(name)); err != nil {
			return &fs.PathError{Op: "protect", Path: path, Err: err}
		}
		return nil
	}
	ok, _, err := setFileSecurity.Call(uintptr(unsafe.Pointer(name)),
		windows.DACL_SECURITY_INFORMATION|windows.PROTECTED_DACL_SECURITY_INFORMATION,
		uintptr(unsafe.Pointer(closed())))
	if ok == 0 {
		return &fs.PathError{Op: "protect", Path: path, Err: err}
	}
	return nil
}

// inherit leaves a file or folder the rights that the folder above gives.
func inherit(path string) error {
	sd, err := windows.SecurityDescriptorFromString("D:")
	if err != nil {
		return err
	}
	dacl, _, err := sd.DACL()
	if err != nil {
		return err
	}
	return windows.SetNamedSecurityInfo(path, windows.SE_FILE_OBJECT,
		windows.DACL_SECURITY_INFORMATION|windows.UNPROTECTED_DACL_SECURITY_INFORMATION, nil, nil, dacl, nil)
}

// security reads a part of a file's security descriptor.
func security(path string, part windows.SECURITY_INFORMATION) (*windows.SECURITY_DESCRIPTOR, error) {
	name, err := long(path)
	if err != nil {
		return nil, err
	}
	return windows.GetNamedSecurityInfo(windows.UTF16PtrToString(name), windows.SE_FILE_OBJECT, part)
}

// owner is whom a file belongs to; nil on a file system without owners.
func owner(path string) (*windows.SID, error) {
	sd, err := security(path, windows.OWNER_SECURITY_INFORMATION)
	if errors.Is(err, windows.ERROR_NOT_SUPPORTED) || errors.Is(err, windows.ERROR_INVALID_FUNCTION) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	sid, _, err := sd.Owner()
	return sid, err
}

// mine reports whether a file belongs to the user who runs the program. What administrators make belongs to
// all of them.
func mine(path string, _ fs.FileInfo) bool {
	sid, err := owner(path)
	if err != nil {
		return false // its owner could read that
	}
	if sid == nil {
		return true
	}
	user, err := me()
	if err == nil && sid.Equals(user) {
		return true
	}
	admin, err := windows.GetCurrentProcessToken().IsMember(sid)
	return err == nil && admin || sid.IsWellKnown(windows.WinBuiltinAdministratorsSid) &&
		windows.GetCurrentProcessToken().IsElevated()
}

// OwnerOf is the owner of a file in brackets, for messages; "" where that is not known.
func OwnerOf(path string) string {
	if sid, err := owner(path); err == nil && sid != nil {
		return " (" + nameOf(sid) + ")"
	}
	return ""
}

func nameOf(sid *windows.SID) string {
	account, domain, _, err := sid.LookupAccount("")
	switch {
	case err != nil:
		return sid.String()
	case domain == "":
		return account
	}
	return domain + `\` + account
}

// The rights that tell something of a file, and those that change it or who may.
const (
	reads   = windows.FILE_READ_DATA | windows.GENERIC_READ | windows.GENERIC_ALL
	changes = windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.GENERIC_WRITE | windows.GENERIC_ALL |
		windows.DELETE | windows.WRITE_DAC | windows.WRITE_OWNER | 0x40 // delete what is in it
)

// Entries that allow something, beside the plain one: with a condition, for a kind of object, or both.
const (
	allowedForObject   = 0x05
	allowedIf          = 0x09
	allowedForObjectIf = 0x0b
)

// others are the people who have one of some rights to a file, beside its owner and those who may do anything.
func others(path string, rights windows.ACCESS_MASK) (out []string) {
	sd, err := security(path, windows.DACL_SECURITY_INFORMATION)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return []string{"an unknown user, as its access list cannot be read"}
	}
	acl, _, err := sd.DACL()
	if err != nil || acl == nil {
		return []string{"everybody"} // a file system without rights, or a file without a list of them
	}
	for i := range uint32(acl.AceCount) {
		var ace *windows.ACCESS_ALLOWED_ACE
		if windows.GetAce(acl, i, &ace) != nil {
			return []string{"an unknown user"}
		}
		if ace.Mask&rights == 0 || ace.Header.AceFlags&windows.INHERIT_ONLY_ACE != 0 {
			continue
		}
		switch ace.Header.AceType {
		case windows.ACCESS_ALLOWED_ACE_TYPE, allowedIf:
		case allowedForObject, allowedForObjectIf:
			return append(out, "an unknown user")
		default:
			continue // it denies, or watches
		}
		sid := (*windows.SID)(unsafe.Pointer(&ace.SidStart))
		if slices.ContainsFunc(trusted(), sid.Equals) {
			continue
		}
		if name := nameOf(sid); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// Exposed says who may read a file beside its owner, or "".
func Exposed(path string) string {
	if list := others(path, reads); len(list) > 0 {
		return "others may read it: " + strings.Join(list, ", ")
	}
	return ""
}

// Untrusted says why a file or directory could have been put there by someone
// else, or "": it belongs to another user, or others may write to it.
func Untrusted(path string) string {
	if _, err := os.Stat(path); err != nil {
		return ""
	}
	if !mine(path, nil) {
		return "it belongs to another user" + OwnerOf(path)
	}
	if list := others(path, changes); len(list) > 0 {
		return "others may change it: " + strings.Join(list, ", ")
	}
	return ""
}

// Closing is the command that closes a file or folder to others.
func Closing(path string) string {
	user := "%USERNAME%"
	if sid, err := me(); err == nil {
		user = "*" + sid.String()
	}
	return fmt.Sprintf(`icacls "%s" /inheritance:r /grant:r %s:F *S-1-5-32-544:F *S-1-5-18:F`, path, user)
}

// Guarding is the command that keeps others from changing a file or folder.
func Guarding(path string) string { return Closing(path) }
