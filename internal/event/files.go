package event

// FileRecorded records the text that a file of an estate's directory has on every machine: a template, a receiver, a
// set, a platform, or the settings. The entry's object is its path, with slashes.
type FileRecorded struct {
	v1
	SHA256 string `json:"sha256"` // in hex
	Text   string `json:"text"`
}

// FileDropped records that no machine has such a file any more.
type FileDropped struct{ v1 }

// Act implements Event.
func (FileRecorded) Act() string { return "record file" }

// Act implements Event.
func (FileDropped) Act() string { return "drop file" }

var fileKinds = []maker{func() Event { return &FileRecorded{} }, func() Event { return &FileDropped{} }}
