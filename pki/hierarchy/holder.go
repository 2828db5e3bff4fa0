package hierarchy

// KeyHolder says who holds the key of an authority.
type KeyHolder string

// The holders.
const (
	HeldHere       KeyHolder = "here"     // this estate's key store
	HeldExternally KeyHolder = "external" // another estate, or an outside authority
	HeldByAgent    KeyHolder = "agent"    // a process that signs for this estate and gives no key away
	HeldShared     KeyHolder = "shared"   // several people, each of whom has a part
)
