package event

// Generation describes a generation that was made here.
type Generation struct {
	Number      int     `json:"generation"`
	By          *string `json:"by"` // the generation above; earlier versions do not say it
	Template    string  `json:"template"`
	Links       Sums    `json:"links"`
	Suspected   string  `json:"suspected"` // why the key before it may be compromised
	SwitchDay   string  `json:"switch day"`
	Certificate string  `json:"certificate"`
	Serial      string  `json:"serial"`
	Subject     string  `json:"subject"`
	Key         string  `json:"key"`
	Until       string  `json:"until"`
	Sheet       string  `json:"sheet"`
	Waived      Waivers `json:"waived"`
}

// AuthorityCreated records that an authority was made. The object is its handle.
type AuthorityCreated struct {
	v1
	Generation
}

// AuthorityRenewed records that an authority got another generation. The object is its handle.
type AuthorityRenewed struct {
	v1
	Generation
}

// CrossCertified records that an authority vouches for another. The object is the handle of the other.
type CrossCertified struct {
	v1
	By     string  `json:"by"`
	To     string  `json:"to"`
	Links  Sums    `json:"links"`
	Serial string  `json:"serial"`
	Until  string  `json:"until"`
	Sheet  string  `json:"sheet"`
	Waived Waivers `json:"waived"`
}

// AuthorityRetired records that an authority signs no longer. The object is its handle.
type AuthorityRetired struct {
	v1
	Because string `json:"because"`
	Last    string `json:"last certificate ends"`
}

// AuthorityReinstated records that a retired authority signs again. The object is its handle.
type AuthorityReinstated struct {
	v1
	Because string `json:"because"`
}

// KeyDestroyed records that the key of a generation was destroyed. The object is the generation.
type KeyDestroyed struct {
	v1
	Key     string `json:"key"`
	Because string `json:"because"`
}

// Imported is an authority above that came with an import.
type Imported struct {
	Certificate string `json:"certificate"`
	Generation  string `json:"generation"`
	By          string `json:"by,omitempty"`
}

// AuthorityAdopted records that an authority that was made elsewhere came here. The object is its handle.
type AuthorityAdopted struct {
	v1
	Certificate string     `json:"certificate"`
	Subject     string     `json:"subject"`
	KeyHere     bool       `json:"key here"`
	By          string     `json:"by"` // the handle of its parent
	Above       []Imported `json:"above"`
	Links       Sums       `json:"links"`
	Issued      []string   `json:"issued"`
	Revocations string     `json:"revocations"` // digest over all that is on record as revoked
	ListNumber  *int64     `json:"list number"`
	Revoked     int        `json:"revoked and known"`
	NotKnown    string     `json:"not known"`
	Waived      Waivers    `json:"waived,omitempty"`
}

// LinkAdopted records that a certificate by which one root vouches for another came here. The object is the handle.
type LinkAdopted struct {
	v1
	To    string `json:"to"`
	Links Sums   `json:"links"`
}

// Applied records that an authority's request is sent to a parent elsewhere. The object is the authority's handle.
type Applied struct {
	v1
	Request   string `json:"request"` // SHA-256
	Subject   string `json:"subject"`
	Parent    string `json:"parent"`
	Key       string `json:"key"`
	SwitchDay string `json:"switch day"`
}

// ApplicationWithdrawn records that such a request is withdrawn. The object is the authority's handle.
type ApplicationWithdrawn struct {
	v1
	Request string `json:"request"`
}

// AnswerImported records that the answer to such a request came. The object is the authority's handle.
type AnswerImported struct {
	v1
	Certificate string     `json:"certificate"`
	Serial      string     `json:"serial"`
	Issuer      string     `json:"issuer"`
	Parent      string     `json:"parent"`
	Above       []Imported `json:"above"`
	Links       Sums       `json:"links"`
	SwitchDay   string     `json:"switch day"`
	Until       string     `json:"until"`
	Waived      Waivers    `json:"waived"`
}

// KeyHeld records that an authority's key is held otherwise from now on. The object is the generation.
type KeyHeld struct {
	v1
	Key string   `json:"key"`           // its SHA-256, in hex
	By  string   `json:"by"`            // agent, custodians, records, or folder
	Who []string `json:"who,omitempty"` // the custodians
	How string   `json:"how,omitempty"` // of custodians, how many are needed, such as "3 of 5"
}

// Act implements Event.
func (KeyHeld) Act() string { return "hold key" }

// KeyFile is a key file that was encrypted again.
type KeyFile struct {
	Name string `json:"name"` // the generation
	Key  string `json:"key"`
	File string `json:"file"` // SHA-256 of the file
}

// PassphraseChangeBegun records that key files are about to be replaced.
type PassphraseChangeBegun struct {
	v1
	Keys []KeyFile `json:"keys"`
}

// PassphraseChanged records that key files were replaced.
type PassphraseChanged struct {
	v1
	Keys []KeyFile `json:"keys"`
}

// Switched records that an authority signs with its prepared generation. The object is its handle.
type Switched struct {
	v1
	From   string  `json:"from"`
	To     string  `json:"to"`
	Waived Waivers `json:"waived"`
}

// SwitchedBack records that an authority signs with the generation before again. The object is its handle.
type SwitchedBack struct {
	v1
	From  string `json:"from"`
	To    string `json:"to"`
	Until string `json:"until"`
}

// Act implements Event.
func (AuthorityCreated) Act() string      { return "create authority" }
func (AuthorityRenewed) Act() string      { return "renew authority" }
func (CrossCertified) Act() string        { return "cross-certify" }
func (AuthorityRetired) Act() string      { return "retire authority" }
func (AuthorityReinstated) Act() string   { return "reinstate authority" }
func (KeyDestroyed) Act() string          { return "destroy key" }
func (AuthorityAdopted) Act() string      { return "adopt authority" }
func (LinkAdopted) Act() string           { return "adopt link" }
func (Applied) Act() string               { return "apply" }
func (ApplicationWithdrawn) Act() string  { return "withdraw application" }
func (AnswerImported) Act() string        { return "import authority" }
func (PassphraseChangeBegun) Act() string { return "begin passphrase change" }
func (PassphraseChanged) Act() string     { return "change passphrase" }
func (Switched) Act() string              { return "switch" }
func (SwitchedBack) Act() string          { return "switch back" }

var authorityKinds = []maker{
	func() Event { return &AuthorityCreated{} }, func() Event { return &AuthorityRenewed{} },
	func() Event { return &CrossCertified{} }, func() Event { return &AuthorityRetired{} },
	func() Event { return &AuthorityReinstated{} }, func() Event { return &KeyDestroyed{} },
	func() Event { return &AuthorityAdopted{} }, func() Event { return &LinkAdopted{} },
	func() Event { return &Applied{} }, func() Event { return &ApplicationWithdrawn{} },
	func() Event { return &AnswerImported{} }, func() Event { return &PassphraseChangeBegun{} },
	func() Event { return &PassphraseChanged{} }, func() Event { return &Switched{} },
	func() Event { return &SwitchedBack{} }, func() Event { return &KeyHeld{} },
}
