package sqlite

import (
	"encoding/hex"
	"encoding/json"
)

// What SQLite wants otherwise than other databases stands here. The rest of the SQL is shared: inserts say ON CONFLICT
// and RETURNING, which all of them know.

// Indexed names the index that a question uses: SQLite's planner takes another one where an authority has very many
// revocations.
func Indexed(index string) string { return " INDEXED BY " + index }

// Among is a condition that a number is among those of its argument, see Numbers.
func Among(column string) string { return column + " IN (SELECT value FROM json_each(?))" }

// Numbers is the argument of Among.
func Numbers(list []int64) (string, error) {
	text, err := json.Marshal(list)
	return string(text), err
}

// KeysTable is a table k of one column, key, with the keys of its argument, see Keys.
const KeysTable = "(SELECT unhex(value) AS key FROM json_each(?)) k"

// Keys is the argument of KeysTable.
func Keys(list [][32]byte) (string, error) {
	texts := make([]string, len(list))
	for i, k := range list {
		texts[i] = hex.EncodeToString(k[:])
	}
	text, err := json.Marshal(texts)
	return string(text), err
}

// InText is a condition that a text has another in it.
func InText(column, argument string) string { return "instr(" + column + ", " + argument + ")" }

// EqualFold is a condition that a text is its argument, where case does not count.
func EqualFold(column string) string { return column + " = ? COLLATE NOCASE" }
