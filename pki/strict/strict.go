// Package strict reads settings, templates and receivers, which people write by hand:
// TOML in which a key that means nothing is an error that names the line and the key
// that was probably meant.
package strict

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Read reads TOML into a structure and refuses keys that the structure lacks.
// Errors begin with line and column; an unknown key comes with the key that was
// probably meant.
func Read(data []byte, into any) error {
	dec := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields()
	err := dec.Decode(into)
	var missing *toml.StrictMissingError
	var broken *toml.DecodeError
	switch {
	case errors.As(err, &missing) && len(missing.Errors) > 0:
		row, col := missing.Errors[0].Position()
		path := missing.Errors[0].Key()
		word := path[len(path)-1]
		hint := ""
		if near := Nearest(word, keysOf(into, path[:len(path)-1])); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		return fmt.Errorf("%d:%d: unknown key %q%s", row, col, strings.Join(path, "."), hint)
	case errors.As(err, &broken):
		row, col := broken.Position()
		return fmt.Errorf("%d:%d: %s", row, col, strings.TrimPrefix(broken.Error(), "toml: "))
	case err != nil:
		return fmt.Errorf(" %w", err)
	}
	return nil
}
