package httpd

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"strings"

	"github.com/coreos/go-systemd/v22/activation"

	"ironseal/internal/api"
	"ironseal/internal/estate"
)

// Places are where a server listens by its settings.
func Places(s estate.Serve) (out []api.ServedAddress) {
	for _, p := range []api.ServedAddress{
		{Name: NamePublic, Address: s.Public, What: "lists, certificates of authorities, OCSP and roots, over HTTP"},
		{Name: NameDesk, Address: s.Desk, What: "requests of colleagues, over HTTPS"},
		{Name: NameMachines, Address: s.Machines, What: "machines that enrol by EST, over HTTPS"},
		{Name: NameHealth, Address: s.Health, What: "state and metrics, over HTTP"},
	} {
		if p.Address != "" {
			out = append(out, p)
		}
	}
	return out
}

// Listen opens the sockets. Sockets that systemd opened are taken by their names, and replace the addresses in the
// settings.
func Listen(s estate.Serve) (out []Listening, err error) {
	given, err := activation.ListenersWithNames()
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			for _, l := range out {
				_ = l.Listener.Close()
			}
		}
	}()
	for _, p := range Places(s) {
		if list := given[p.Name]; len(list) > 0 {
			for _, l := range list {
				out = append(out, Listening{p.Name, l})
			}
			continue
		}
		l, err := listen(p.Address)
		if err != nil {
			return out, fmt.Errorf("serve.%s: %s: %w", p.Name, p.Address, err)
		}
		out = append(out, Listening{p.Name, l})
	}
	if len(out) == 0 {
		return nil, errors.New("there is nothing to serve: every address in [serve] is empty")
	}
	return out, nil
}

// listen opens one socket. A Unix socket that no one listens on any more is replaced.
func listen(at string) (net.Listener, error) {
	file, isUnix := strings.CutPrefix(at, "unix:")
	if !isUnix {
		// A connection that says nothing stays in the kernel, where that is known.
		return (&net.ListenConfig{Control: deferred}).Listen(context.Background(), "tcp", at)
	}
	l, err := net.Listen("unix", file)
	if err == nil {
		return l, nil
	}
	if info, statErr := os.Lstat(file); statErr != nil || info.Mode().Type() != fs.ModeSocket {
		return nil, err
	}
	if c, dialErr := net.Dial("unix", file); dialErr == nil {
		_ = c.Close()
		return nil, err
	}
	if rmErr := os.Remove(file); rmErr != nil {
		return nil, errors.Join(err, rmErr)
	}
	return net.Listen("unix", file)
}
