package san

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"

	"golang.org/x/net/idna"
)

// Everything that is said about the validity of a name is said in this file, and
// once a name: template patterns, name constraints, verify and signing ask the
// name, and come to the same answer.

// Faults that others ask for.
const (
	faultAddress = "it is an address, and is written as a DNS name"
	faultOverTop = "a * over a single part stands for a whole top-level domain, which clients refuse"
)

// judge brings a name to the form in which it is compared, and says why no client
// can match it.
func judge(k Kind, value string) (key, fault string) {
	switch k {
	case DNS:
		key = strings.TrimSuffix(strings.ToLower(value), ".")
		return key, dnsFault(key)
	case IP:
		a, ok := address(value)
		if !ok || a.Zone() != "" {
			return value, "an address has 4 or 16 bytes"
		}
		return a.Unmap().String(), "" // an IPv4 address in the form of IPv6 is that address
	case Email, UPN:
		at := strings.LastIndexByte(value, '@')
		if at <= 0 {
			return value, "a mail address is NAME@HOST"
		}
		host := strings.ToLower(value[at+1:])
		return value[:at] + "@" + strings.TrimSuffix(host, "."), mailFault(value[:at], host)
	case URI:
		return value, uriFault(value)
	}
	return value, ""
}

func dnsFault(host string) string {
	if a, ok := address(strings.Trim(host, "[]")); ok && a.Zone() == "" {
		return faultAddress
	}
	if fault := hostFault(host, true); fault != "" {
		return fault
	}
	if rest, wild := strings.CutPrefix(host, "*."); wild && !strings.Contains(rest, ".") {
		return faultOverTop
	}
	return ""
}

// address reads an address. Most names are none, as their characters show: netip's errors take longer
// than all else that is asked of a name.
func address(s string) (netip.Addr, bool) {
	if !strings.Contains(s, ":") && strings.Trim(s, "0123456789.") != "" {
		return netip.Addr{}, false
	}
	a, err := netip.ParseAddr(s)
	return a, err == nil
}

func mailFault(local, host string) string {
	if strings.ContainsAny(local, " \t\r\n\x00<>()[]\\,;:@\"") || !ascii(local) {
		return "the part before the @ has characters that are not allowed"
	}
	return hostFault(strings.TrimSuffix(host, "."), false)
}

func uriFault(value string) string {
	u, err := url.Parse(value)
	if err != nil || u.Scheme == "" || !ascii(value) {
		return "an address of this kind is SCHEME:REST, in ASCII"
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	if _, ok := address(host); ok || host == "" {
		return ""
	}
	return hostFault(host, false)
}

func ascii(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r < 0x21 || r > 0x7e }) < 0
}

// hostFault checks a host name, in small letters and without a closing dot, by RFC
// 1034 section 3.5 and RFC 1123 section 2.1. An underscore is let through: devices
// use it, and most clients match it.
func hostFault(host string, wildcard bool) string {
	if host == "" {
		return "it is empty"
	}
	if len(host) > 253 {
		return fmt.Sprintf("it is %d characters long; the most is 253", len(host))
	}
	labels := strings.Split(host, ".")
	for i, label := range labels {
		if label == "*" && wildcard && i == 0 && len(labels) > 1 {
			continue
		}
		if fault := labelFault(label); fault != "" {
			return fault
		}
	}
	if last := labels[len(labels)-1]; strings.Trim(last, "0123456789") == "" {
		return "its last part is a number, and clients take it for an address"
	}
	return ""
}

func labelFault(label string) string {
	switch {
	case label == "":
		return "a dot too many: a part is empty"
	case strings.Contains(label, "*"):
		return "a * stands for one whole part, and only for the first"
	case len(label) > 63:
		return "a part is longer than 63 characters"
	case label[0] == '-' || label[len(label)-1] == '-':
		return "a part begins or ends with a hyphen"
	}
	for _, r := range label {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_') {
			return "a host name has only letters, digits, hyphens and dots"
		}
	}
	if strings.HasPrefix(label, "xn--") {
		// RFC 5891 section 5.4: it must decode, and encode to the same again.
		u, err := idna.Lookup.ToUnicode(label)
		if again, back := idna.Lookup.ToASCII(u); err != nil || back != nil || again != label {
			return fmt.Sprintf("%s is not a valid internationalised part (RFC 5891)", label)
		}
	}
	return ""
}
