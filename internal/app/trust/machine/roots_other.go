//go:build !windows

package machine

// openRoots opens a store that the system itself keeps: not here, where stores are files.
func openRoots(string, bool) (rootStore, error) { return nil, errNoRoots }
