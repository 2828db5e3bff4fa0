// Package strict reads settings, templates and receivers, which people write by hand:
// TOML in which a key that means nothing is an error that names the line and the key
// that was probably meant.
package strict

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// Read reads TOML into a structure and refuses keys that the structure lacks.
// Errors begin with line and column; an unknown key comes with the key that was
// probably meant. A key by which a field was called in earlier files is taken for the field.
// Its tag "was" knows that key by its hash (see hashed): it can be read, and is never
// written.
func Read(data []byte, into any) error {
	var missing *toml.StrictMissingError
	var err error
	for { // on a trial structure, since what is decoded twice may be there twice
		err = decode(data, reflect.New(reflect.TypeOf(into).Elem()).Interface())
		if !errors.As(err, &missing) || len(missing.Errors) == 0 {
			break
		}
		better, ok := today(data, into, missing.Errors[0])
		if !ok {
			break
		}
		data = better
	}
	if err == nil {
		err = decode(data, into)
	}
	var broken *toml.DecodeError
	switch {
	case errors.As(err, &missing) && len(missing.Errors) > 0:
		row, col := missing.Errors[0].Position()
		path := missing.Errors[0].Key()
		word := path[len(path)-1]
		known := keysOf(into, path[:len(path)-1])
		hint := ""
		if near := Nearest(word, known); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		if len(known) > 0 {
			hint += "\nthe keys that are allowed: " + strings.Join(known, ", ")
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

func decode(data []byte, into any) error {
	return toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(into)
}

// hashed is the beginning of the SHA-256 of a key, in hex.
func hashed(word string) string {
	sum := sha256.Sum256([]byte(word))
	return hex.EncodeToString(sum[:8])
}

// today writes a key that was renamed as it is called today, in its place.
func today(data []byte, into any, at toml.DecodeError) ([]byte, bool) {
	path := at.Key()
	was := path[len(path)-1]
	sum := hashed(was)
	row, col := at.Position()
	lines := bytes.SplitAfter(data, []byte("\n"))
	for _, f := range fieldsAt(into, path[:len(path)-1]) {
		if !slices.Contains(strings.Fields(f.Tag.Get("was")), sum) || row < 1 || row > len(lines) {
			continue
		}
		line := lines[row-1]
		if col < 1 || col > len(line) || !bytes.HasPrefix(line[col-1:], []byte(was)) {
			continue // it is written in quotes, or with the name of its table
		}
		lines[row-1] = slices.Concat(line[:col-1], []byte(Key(f)), line[col-1+len(was):])
		return bytes.Join(lines, nil), true
	}
	return nil, false
}
