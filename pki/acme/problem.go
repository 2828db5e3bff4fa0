package acme

// Kind is a registered kind of problem (RFC 8555 section 6.7, RFC 9773 section 7.4).
type Kind string

// The kinds.
const (
	AccountDoesNotExist   Kind = "accountDoesNotExist"
	AlreadyReplaced       Kind = "alreadyReplaced"
	AlreadyRevoked        Kind = "alreadyRevoked"
	BadCSR                Kind = "badCSR"
	BadNonce              Kind = "badNonce"
	BadPublicKey          Kind = "badPublicKey"
	BadRevocationReason   Kind = "badRevocationReason"
	BadSignatureAlgorithm Kind = "badSignatureAlgorithm"
	ConnectionFailed      Kind = "connection"
	DNSFailed             Kind = "dns"
	ExternalRequired      Kind = "externalAccountRequired"
	IncorrectResponse     Kind = "incorrectResponse"
	InvalidContact        Kind = "invalidContact"
	Malformed             Kind = "malformed"
	OrderNotReady         Kind = "orderNotReady"
	RateLimited           Kind = "rateLimited"
	RejectedIdentifier    Kind = "rejectedIdentifier"
	ServerInternal        Kind = "serverInternal"
	TLSFailed             Kind = "tls"
	Unauthorized          Kind = "unauthorized"
	UnsupportedContact    Kind = "unsupportedContact"
	UnsupportedIdentifier Kind = "unsupportedIdentifier"
)

// Prefix begins the type of every problem.
const Prefix = "urn:ietf:params:acme:error:"

// Problem says why a client's message was not accepted (RFC 8555 section 6.7). It is an error.
type Problem struct {
	Kind       Kind
	Detail     string
	Identifier *Identifier // that it is about; nil for none
	Parts      []Problem   // where several identifiers have one each
	Retry      int         // when the client may try again, in seconds; 0 where that is not said
}

// Error implements error.
func (p *Problem) Error() string { return string(p.Kind) + ": " + p.Detail }

// Type is the registered type.
func (p Problem) Type() string { return Prefix + string(p.Kind) }
