package event

import "time"

// Invited records that a person was invited to hand in requests at the desk. The object is the invitation's name.
type Invited struct {
	v1
	Address   string    `json:"address"`             // SHA-256 of the secret in the private address, in hex
	Templates []string  `json:"templates,omitempty"` // that may be asked for; none: any
	Names     []string  `json:"names,omitempty"`     // patterns of names that may be asked for; none: any
	Count     int       `json:"count,omitempty"`     // how many requests may be handed in; 0: any number
	Until     time.Time `json:"until"`
}

// InvitationEnded records that an invitation holds no more. The object is its name.
type InvitationEnded struct {
	v1
	Because string `json:"because"`
}

// HandedIn records what a sender said with a request at the desk. The object is the request's number.
type HandedIn struct {
	v1
	Address    string   `json:"address"` // SHA-256 of the secret in the private address, in hex
	From       string   `json:"from"`
	Purpose    string   `json:"purpose,omitempty"`
	Template   string   `json:"template,omitempty"`   // that the sender asks for
	Receiver   string   `json:"receiver,omitempty"`   // that the sender asks for
	Names      []string `json:"names,omitempty"`      // typed beside the request, with their kinds
	Invitation string   `json:"invitation,omitempty"` // its name
	Nth        int      `json:"nth,omitempty"`        // of the requests by this invitation
	Renews     string   `json:"renews,omitempty"`     // the request before it, of the same holder
}

// Act implements Event.
func (Invited) Act() string         { return "invite" }
func (InvitationEnded) Act() string { return "end invitation" }
func (HandedIn) Act() string        { return "hand in" }

var deskKinds = []maker{
	func() Event { return &Invited{} }, func() Event { return &InvitationEnded{} },
	func() Event { return &HandedIn{} },
}
