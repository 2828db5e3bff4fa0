//go:build !unix

package app_test

// There are no pipes in folders here, and links need rights that few have.
func strange() map[string]func(file string) error {
	return map[string]func(string) error{}
}
