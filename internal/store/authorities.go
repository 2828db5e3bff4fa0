package store

import (
	"context"
	"time"

	"ironseal/pki/cert"
	"ironseal/pki/distpoint"
	"ironseal/pki/hierarchy"
)

// NewAuthority is what is recorded with a new authority.
type NewAuthority struct {
	Handle      string
	Parent      string // "" for a root
	Holder      hierarchy.KeyHolder
	Certificate int64
	Issuer      int64 // generation id; 0 for a root
}

// Application is a request of one of our authorities to a parent elsewhere.
type Application struct {
	ID        int64
	Handle    string
	Parent    string // what the parent is called here
	DER       []byte
	Made      time.Time
	Answered  time.Time // zero while it is sent
	SwitchDay time.Time // the switch day that it is for; zero for none
}

// Address is an address that certificates of a generation name.
type Address struct {
	Generation string // its name
	Part       int    // of its lists, that the certificates are on; 0 for the whole
	Kind       string
	Address    string
}

// Kinds of places.
const (
	ListAddress   = "list"   // where a revocation list is fetched from
	IssuerAddress = "issuer" // where the issuer's certificate is
)

// AddressesIn are the places that one certificate names.
func AddressesIn(c *cert.Certificate) (out []Address) {
	for _, a := range distpoint.ListsOf(c.Extensions, c.Issuer) {
		out = append(out, Address{Kind: ListAddress, Address: a})
	}
	for _, a := range distpoint.IssuersOf(c.Extensions) {
		out = append(out, Address{Kind: IssuerAddress, Address: a})
	}
	return out
}

// AuthoritiesReader answers questions about authorities.
type AuthoritiesReader interface {
	// Addresses lists the addresses that certificates name, by generation.
	Addresses(ctx context.Context) (out []Address, err error)
	// LastOf is when the last certificate that an authority issued ends, links and
	// its own certificates left out; zero when it issued none.
	LastOf(ctx context.Context, handle string) (time.Time, error)
	// Applications lists the requests that are sent and not answered, oldest first.
	Applications(ctx context.Context) ([]Application, error)
	// AllApplications lists those that were answered or withdrawn as well.
	AllApplications(ctx context.Context) ([]Application, error)
	// Transfer tells what a transfer folder brought when it was imported; "" when it
	// was not.
	Transfer(ctx context.Context, id string) (string, error)
	// Hierarchy gives all authorities, parents before children. It is loaded again only when
	// the journal has another head; what was given out is not to be changed.
	Hierarchy(ctx context.Context) (hierarchy.Hierarchy, error)
}

// AuthoritiesWriter records changes of authorities.
type AuthoritiesWriter interface {
	// AddAuthority records a new authority with its first generation, whose
	// identifier it returns.
	AddAuthority(n NewAuthority) (generation int64, err error)
	// AddGeneration records the next generation of an authority. newest is the
	// number of the one that it was planned after. parent is the authority above
	// from now on, "" for a root; switchDay is zero to sign at once.
	AddGeneration(handle, parent string, newest int, certificate, issuer int64, switchDay time.Time) (int64, error)
	// AddLink records a link certificate.
	AddLink(certificate, by, to int64) error
	// Activate lets a prepared generation, and what it signed already, serve from now on.
	Activate(g *hierarchy.Generation) error
	// Postpone puts a generation back behind its switch day, and with it what it signed in
	// the place of others, which serve again.
	Postpone(g *hierarchy.Generation, day time.Time) error
	// Retire records that an authority no longer signs.
	Retire(handle string, at time.Time) error
	// Reinstate lets a retired authority sign again.
	Reinstate(handle string) error
	// Stop records why a generation grants nothing for now; "" lets it grant again.
	Stop(g *hierarchy.Generation, why string) error
	// AnyGenerationID finds the record of a generation, whatever its state.
	AnyGenerationID(g *hierarchy.Generation) (id int64, err error)
	// GenerationID finds the record of a generation, and checks that it may still
	// sign: it is the newest of its authority but for those that wait for their
	// switch day, or waits itself, and the authority is not retired.
	GenerationID(g *hierarchy.Generation) (int64, error)
	// Hierarchy loads all authorities as they are in the middle of a change.
	Hierarchy() (hierarchy.Hierarchy, error)
	// AddApplication records a request that is sent.
	AddApplication(a Application, key [32]byte) error
	// CloseApplication records that an application was answered; it must still be open.
	CloseApplication(id int64) error
	// AddTransfer records that a transfer folder was imported; it fails when it was before.
	AddTransfer(id, what string) error
}
