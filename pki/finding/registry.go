package finding

import (
	"sync"

	"ironseal/pki/advice"
)

// The codes, grouped by what they are about.
const (
	// About a request.
	NoProof           Code = "no-proof-of-possession"
	WeakHash          Code = "weak-hash"
	WeakKey           Code = "weak-key"
	OddKey            Code = "odd-key"
	SharedPrime       Code = "key-shares-a-prime"
	NoNames           Code = "no-alternative-names"
	CommonNameAdded   Code = "common-name-not-listed"
	CommonNameOdd     Code = "common-name-not-a-host"
	ShortName         Code = "short-name"
	AddressAsDNS      Code = "address-as-dns-name"
	BadName           Code = "name-not-valid"
	DuplicateName     Code = "name-twice"
	WildcardName      Code = "wildcard-name"
	ManyNames         Code = "many-names"
	HostileText       Code = "hostile-text"
	BadCountry        Code = "country-code"
	BadField          Code = "subject-field-not-valid"
	LookAlike         Code = "look-alike-letters"
	Internationalised Code = "internationalised-name"
	Underscore        Code = "underscore-in-name"
	BareDomain        Code = "bare-domain"
	EmptySubject      Code = "empty-subject"
	CommonNames       Code = "several-common-names"
	Renews            Code = "renews-a-certificate"
	Unresolved        Code = "name-does-not-resolve"
	AsksAuthority     Code = "asks-for-authority"
	AsksUsage         Code = "asks-for-usage"
	AsksExtension     Code = "asks-for-extension"
	ChallengePresent  Code = "challenge-password"
	Untidy            Code = "untidy-encoding"

	// About a plan.
	LifeShortened     Code = "life-shortened"
	LifeLimited       Code = "life-over-template"
	LifeOver          Code = "life-nothing-left"
	NestsBadly        Code = "life-nests-badly"
	NotListed         Code = "issuer-not-listed"
	PathTooShort      Code = "path-length-used-up"
	OutsideNames      Code = "name-outside-constraints"
	NameNotAllowed    Code = "name-not-allowed"
	NameMissing       Code = "name-kind-missing"
	KeyNotAllowed     Code = "key-kind-not-allowed"
	SubjectMissing    Code = "subject-field-missing"
	SubjectTaken      Code = "subject-of-an-authority"
	AuthorityKey      Code = "key-of-an-authority"
	KeyReused         Code = "key-seen-before"
	ClockBehind       Code = "clock-behind-records"
	TemplateAtOdds    Code = "template-contradiction"
	IssuerNotUsable   Code = "issuer-not-usable"
	ReceiverDemand    Code = "receiver-demand"
	SenderNotListed   Code = "requester-not-listed"
	DropMissed        Code = "drop-name-not-there"
	BelowItself       Code = "issuer-stands-below"
	NoAuthorityMade   Code = "template-makes-no-authority"
	AuthorityNotAsked Code = "authority-not-asked-for"
	AnswerMore        Code = "answer-has-more"
	AnswerSubject     Code = "answer-subject-differs"
	AnswerFewer       Code = "answer-leaves-out"
	AnswerOtherKey    Code = "answer-for-another-key"
	AnswerLacks       Code = "answer-lacks"
	AnswerOpen        Code = "answer-chain-open"
	OlderProfile      Code = "older-protection"
	OlderMessages     Code = "older-messages"
	ClientRefuses     Code = "client-refuses"
	SomeRefuse        Code = "some-clients-refuse"
	NoListNamed       Code = "names-no-revocation-list"
	NameLive          Code = "name-has-a-certificate"
	NameOfOther       Code = "name-of-another-sender"

	// About a renewal.
	LinkCounted        Code = "link-counted"
	CrossWithoutLimits Code = "cross-without-limits"
	ParentEnding       Code = "parent-ends-soon"
	NoGain             Code = "renewal-without-gain"
	EndsEarlier        Code = "ends-before-the-earlier"
	Retired            Code = "authority-retired"
	IssuerRevoked      Code = "authority-revoked"

	// About taking back.
	KeyLost             Code = "key-lost"
	SuspectedKey        Code = "key-suspected"
	ReasonUnfit         Code = "reason-does-not-fit"
	NotSuperseded       Code = "nothing-in-its-place"
	NoListToLearn       Code = "clients-look-nowhere"
	Again               Code = "was-on-hold"
	ListKeyGone         Code = "list-key-gone"
	TakesDown           Code = "takes-others-down"
	SameKeyStands       Code = "same-key-still-stands"
	SuspectedGeneration Code = "another-generation-suspected"
	NotOnRecord         Code = "certificate-not-on-record"
	SuspectedAnchor     Code = "anchor-suspected"

	// About a list where clients look for it.
	ListUnreachable   Code = "list-unreachable"
	ListUnread        Code = "list-unreadable"
	ListForeign       Code = "list-of-another"
	ListStale         Code = "list-stale"
	ListOlder         Code = "list-older"
	ListUnknown       Code = "list-not-on-record"
	Stopped           Code = "authority-stopped"
	KeyElsewhere      Code = "key-elsewhere"
	AnswerOtherName   Code = "answer-for-another-subject"
	AnswerNoAuthority Code = "answer-not-an-authority"
	AnswerTooShort    Code = "answer-too-short"
	RehearsalMade     Code = "made-in-a-rehearsal"

	// About a certificate, a chain or a file.
	UnknownAnchor     Code = "anchor-unknown"
	MissingIssuer     Code = "issuer-missing"
	Expired           Code = "expired"
	NotYetValid       Code = "not-yet-valid"
	NotAuthority      Code = "not-an-authority"
	CannotSign        Code = "may-not-sign"
	PathLength        Code = "path-too-long"
	BadSignature      Code = "signature-wrong"
	UnknownCritical   Code = "critical-extension-unknown"
	WrongName         Code = "name-differs"
	OnlyCommonName    Code = "only-common-name"
	UsageMissing      Code = "usage-missing"
	ConstraintBroken  Code = "name-constraint-broken"
	PolicyMissing     Code = "policy-missing"
	PolicyBroken      Code = "policy-broken"
	NotTheIssuer      Code = "issuer-differs"
	OutOfOrder        Code = "chain-out-of-order"
	Stray             Code = "certificate-does-not-belong"
	Malformed         Code = "certificate-malformed"
	AnchorLeaf        Code = "anchor-is-a-leaf"
	AnchorSelf        Code = "anchor-vouches-for-itself"
	AnchorMiddle      Code = "anchor-is-intermediate"
	AnchorExpired     Code = "anchor-expired"
	AnchorEarly       Code = "anchor-not-yet-valid"
	AnchorDigest      Code = "anchor-weak-digest"
	Broken            Code = "certificate-broken"
	OnRecord          Code = "superseded-on-record"
	SearchCut         Code = "search-cut-short"
	Revoked           Code = "revoked"
	StatusUnknown     Code = "status-unknown"
	RevokedOnRecord   Code = "revoked-on-record"
	RefusedByBrowsers Code = "refused-by-browsers"

	// About a live endpoint.
	SelfMade        Code = "self-made"
	ServedOlder     Code = "older-served"
	ServedRevoked   Code = "revoked-served"
	OldProtocol     Code = "old-protocol"
	WeakSuite       Code = "weak-suite"
	DeadSuite       Code = "dead-suite-only"
	NoTLS           Code = "tls-not-offered"
	NamelessDiffers Code = "nameless-differs"
	ClientWanted    Code = "client-certificate-wanted"
	ClientAsked     Code = "client-certificate-asked"
	HandshakeFailed Code = "handshake-failed"
	NoAnswer        Code = "no-answer"

	// About parties.
	PartyNotReady Code = "party-not-ready"
	PartyClosed   Code = "party-cannot-learn"
)

// Rule is the registry's entry for one code.
type Rule struct {
	Code     Code
	Severity Severity
	Title    string      // what it means, in one line
	Why      string      // why it matters; where a rule of a standard is behind it, its section
	Remedy   string      // what to do, unless the finding itself knows better
	Next     advice.List // acts of the program that follow
}

var registry = []struct {
	code               Code
	severity           Severity
	title, why, remedy string
}{
	{NoProof, Refused, "The request is not signed by its own key.",
		"Whoever sent it has not shown that they hold the private key (RFC 2986 section 3).",
		"ask for a new request, made on the machine that holds the key"},
	{WeakHash, Refused, "Signed with MD5, SHA-1 or SHA-224.",
		"The first two can be forged, the third is too short for new signatures; clients refuse them.",
		"ask for a new request, signed with SHA-256 or stronger"},
	{WeakKey, Refused, "The key is too weak to certify.",
		"RSA under 2048 bits can be broken within a certificate's life; other faults make a key worthless at once.",
		"ask for a new request with a new key: rsa-2048 or ecdsa-p256 at least"},
	{SharedPrime, Refused, "The RSA key shares a prime with another key.",
		"Anyone with both public keys can compute both private keys. Machines with too little randomness make such " +
			"keys.",
		"ask for a new request with a new key, made on a machine with good randomness, and replace the other key too"},
	{OddKey, Warn, "The key is unusual.", "Some devices cannot use it.",
		"ask whether the device was meant to make such a key"},
	{NoNames, Warn, "The request lists no alternative names.",
		"Clients look only at alternative names (RFC 9525 section 6.3); a certificate without any is refused by most " +
			"of them.", ""},
	{CommonNameAdded, Note, "The common name is not among the alternative names.",
		"Clients ignore the common name, so it is added as an alternative name.", "nothing to do"},
	{CommonNameOdd, Note, "The common name is not a host name or an address.",
		"It stays in the subject, but no client will match it.",
		""},
	{ShortName, Warn, "A short host name, without a domain.",
		"It matches only when users type exactly this short name; the full name will not match it.",
		""},
	{AddressAsDNS, Warn, "An address written as a DNS name.",
		"Clients that connect by address look for a name of the address kind only (RFC 9525 section 6.3), so it is " +
			"certified as an address.", "nothing to do, if the address is meant"},
	{BadName, Warn, "An alternative name that no client can match.",
		"It is not a valid name of its kind (RFC 5280 section 4.2.1.6), so it is left out of what is signed.",
		""},
	{BadField, Warn, "A subject field that cannot be certified.",
		"It breaks the limits of RFC 5280 appendix A, so strict readers would refuse the whole certificate; it is " +
			"left out of what is signed.", ""},
	{DuplicateName, Note, "The same name is listed more than once.",
		"Names that differ in case or by a trailing dot are one name; it is kept once.", "nothing to do"},
	{WildcardName, Note, "A wildcard name.", "It covers one level only, and whoever holds its key can stand in for " +
		"every host at that level.", "prefer the exact names where they are known"},
	{ManyNames, Waivable, "More names than the template allows.",
		"Handshakes carry all of them; some clients give up on very large certificates.",
		"split the request, or raise the template's names.most"},
	{LookAlike, Waivable, "A name that mixes letters which look alike.",
		"Letters of different scripts in one part of a name can pass for another name (RFC 5890 section 4.4).",
		"ask the sender to read the name aloud; if it is right, waive this"},
	{Internationalised, Note, "An internationalised name.", "Clients see its ASCII form; both are shown.",
		"nothing to do"},
	{Underscore, Warn, "An underscore in a host name.",
		"Host names have none (RFC 1123 section 2.1); most clients accept it, some refuse it.",
		"ask for a name without it"},
	{BareDomain, Warn, "A wildcard over a whole top-level domain.",
		"Clients refuse it, and it covers far more than one host. It is left out of what is signed.",
		""},
	{EmptySubject, Note, "The subject is empty.",
		"Clients accept this if there are alternative names. Lists show the first of them.",
		""},
	{CommonNames, Warn, "The subject has more than one common name.",
		"Clients differ in which of them they show or compare; each is checked as a name here.",
		""},
	{Renews, Note, "The request renews a certificate on record.",
		"It has the same key, or the same names with a new key.", "nothing to do"},
	{Unresolved, Warn, "A name that does not resolve from here.",
		"It may be mistyped, or known only inside another network.", "ask whether the name is right"},
	{HostileText, Waivable, "Text that could mislead whoever reads it.",
		"Control, bidirectional and invisible characters make a name look like another.",
		"ask the sender what it is for"},
	{BadCountry, Warn, "The country is not a two-letter code.",
		"RFC 5280 appendix A allows exactly two letters; strict readers refuse the whole certificate.",
		""},
	{AsksAuthority, Waivable, "The request asks to be an authority, and this template does not make authorities.",
		"An authority can sign for anyone. What is signed here will not be one.",
		"if it is meant to be an authority use an authority template; if not, waive this"},
	{AsksUsage, Warn, "The request asks for a usage that the template does not have.",
		"It is left out of what is signed.", "use another template if the device needs it"},
	{AsksExtension, Note, "The request asks for an extension that the template does not copy.",
		"It is left out of what is signed.", "nothing to do"},
	{ChallengePresent, Note, "The request carries a challenge password.",
		"It stays in the request and is never shown.", "nothing to do"},
	{Untidy, Note, "The request breaks encoding rules.", "Many devices do this. It can still be read.",
		"nothing to do"},

	{LifeShortened, Warn, "The lifetime is cut to end with an authority above.",
		"No certificate may outlive any authority above it, or clients refuse it on that day (RFC 5280 section 6.1).",
		"renew that authority first if the full lifetime is needed"},
	{LifeLimited, Note, "The requested lifetime is over the template's limit.", "It is cut to the limit.",
		"raise the template's longest-lifetime if that is intended"},
	{LifeOver, Refused, "The authority has no lifetime left to grant.",
		"It has ended, or ends before the certificate would begin.", "renew the authority, then sign"},
	{NestsBadly, Warn, "This lifetime leaves too little for what is below.",
		"An authority should live at least twice as long as what it grants. Otherwise grants shrink before its " +
			"renewal is due.", "choose a longer lifetime, or shorter lifetimes below"},
	{BelowItself, Refused, "The authority above is also below this one.",
		"Each would be above the other: no chain through them reaches a root.",
		"choose an authority that does not descend from this one"},
	{NoAuthorityMade, Refused, "The template does not make authorities.",
		"What it makes cannot sign anything (RFC 5280 section 4.2.1.9).",
		""},
	{AuthorityNotAsked, Waivable, "The template makes an authority, and the request did not ask to be one.",
		"An authority can sign for anyone. Whoever made this request asked for something else.",
		"use a template for end entities; if an authority is meant, ask for a request that says so, or waive this"},
	{NotListed, Refused, "This authority may not issue from the template.",
		"The template's issuers list says who signs by it.",
		"add the authority to the template's issuers list, or sign by another"},
	{PathTooShort, Refused, "The authority above allows no further authority below it.",
		"Its path length is used up; clients would refuse everything below (RFC 5280 section 6.1.4).",
		"put it under an authority with a longer path length"},
	{OutsideNames, Refused, "A name that an authority above may not certify.",
		"Its name constraints exclude the name, so clients would refuse the certificate (RFC 5280 section 4.2.1.10).",
		"drop the name, or sign by an authority without this constraint"},
	{NameNotAllowed, Waivable, "A name of a kind that the template does not allow.",
		"The template lists the kinds of name that it allows.", "use another template"},
	{DropMissed, Waivable, "A name to drop is not in the request.",
		"It may be mistyped: then the unwanted name would be signed.",
		"compare with the names on the sheet, and type the name as it is there"},
	{NameMissing, Waivable, "No alternative name is left to certify.",
		"The template needs at least one name, or no client could use the certificate.",
		""},
	{KeyNotAllowed, Waivable, "The template does not allow a key of this kind.",
		"The template's keys list says which kinds it takes.",
		"ask for a request with another kind of key, or use another template"},
	{SubjectMissing, Waivable, "A subject field that the template requires is missing.",
		"The template says which fields must be there.", ""},
	{SubjectTaken, Refused, "The subject is that of another authority.",
		"Clients cannot build chains if two authorities have the same name.", ""},
	{AuthorityKey, Refused, "The key is the key of one of this estate's own authorities.",
		"One key must never serve as authority and as something else.", "ask for a new request with a new key"},
	{KeyReused, Warn, "The key was seen before under another subject.",
		"Whoever holds one of the two can stand in for the other.",
		"ask whether both are the same machine; a new key is better"},
	{ClockBehind, Refused, "The clock is behind the newest record.",
		"A wrong clock gives certificates the wrong dates.",
		"set this machine's clock, then try again"},
	{TemplateAtOdds, Warn, "The template contradicts itself.", "What it makes would be refused by some clients.",
		"change the template file"},
	{IssuerNotUsable, Refused, "This authority cannot sign certificates.",
		"It is no CA certificate, or lacks the usage to sign (RFC 5280 section 4.2.1.3).", "sign by another authority"},

	{AnswerOtherKey, Refused, "The returned certificate is for another key.",
		"It cannot be used with the key that was drafted.", "ask the outside authority for the answer to this request"},
	{AnswerLacks, Waivable, "The returned certificate lacks what was asked for.",
		"Clients will refuse it by the names that it lacks.",
		"ask the outside authority to sign again, with everything that was asked"},
	{AnswerMore, Waivable, "The returned certificate has more than was asked for.",
		"The request did not ask for these names, usages or powers. They may serve an attacker.",
		"ask the outside authority why; if it is meant, waive this"},
	{AnswerSubject, Waivable, "The returned certificate's subject is not the one that was asked for.",
		"It may be another's, or the outside authority left fields out.",
		"compare the two; if the other subject is acceptable, waive this"},
	{AnswerFewer, Warn, "The returned certificate's subject leaves out fields that were asked for.",
		"Outside authorities often keep the common name alone; clients do not mind.",
		"nothing to do, if no program reads those fields"},
	{AnswerOpen, Waivable, "The returned certificate's chain has a gap.",
		"Without its issuers it cannot be installed, and its signer is unknown.",
		"give the outside authority's issuers as well: more files"},
	{SenderNotListed, Waivable, "The sender may not submit under this template.",
		"The template lists its requesters.", "ask who really sent it, use another template, or add the requester to " +
			"the template"},
	{ReceiverDemand, Waivable, "The receiver demands something that the certificate will not have.",
		"It would raise an alarm there, or refuse the file, after everything else is done.",
		""},
	{OlderProfile, Warn, "The file is protected by triple DES and SHA-1.",
		"Anyone who has the file can try passwords quickly. Some software no longer opens it.",
		"use it only for devices that take nothing newer, and delete it after the import"},

	{OlderMessages, Warn, "The template takes messages of SCEP with triple DES and SHA-1.",
		"Whoever can make two messages with one SHA-1 digest, or records messages, may pass for a device or read " +
			"its code.",
		"let only devices use it that know nothing newer, by a template of their own with few names"},
	{ClientRefuses, Waivable, "A kind of client that has to accept it would refuse.",
		"Clients differ from the standard. This was measured with this kind of client.",
		"sign it so that this kind accepts it: the reason says what it needs"},
	{SomeRefuse, Warn, "A kind of client would refuse what the standard allows.",
		"Clients differ from the standard. This was measured with this kind of client.",
		"if this kind of client connects to it, sign it so that the client accepts it"},
	{NoListNamed, Note, "Certificates of this estate name no revocation list.",
		"Clients look for a list where the certificate says. Without an address they do not hear of a revocation.",
		"set publication.address in ironseal.toml; it applies to what is signed afterwards"},
	{NameLive, Warn, "Another certificate with this name is valid, for another key.",
		"Two keys can then speak for this name. One of them may be forgotten.",
		"renew the other one instead, or revoke it once this one is in use"},
	{NameOfOther, Waivable, "Another sender has a valid certificate with this name, for another key.",
		"Anyone with a certificate for a name can speak for it. One of the two senders may be false.",
		"ask the sender of the other one; then renew that certificate, or waive this"},

	{LinkCounted, Warn, "Some clients will count the link certificate against the path length.",
		"RFC 5280 section 4.2.1.9 leaves self-issued certificates out of the count; some libraries, among them Go's, " +
			"do not.",
		"bring the new root to those clients before the servers change, or renew with the same key"},
	{CrossWithoutLimits, Waivable, "The cross-certificate has no limits on names.",
		"Anyone with the other authority's key can certify every name for your clients, including yours.",
		""},
	{ParentEnding, Waivable, "The authority above is itself about to end.",
		"Anything renewed under it now ends too soon.", "renew the authority above first"},
	{NoGain, Waivable, "The renewal would not last longer than the present one.", "It would gain nothing.",
		"choose a longer lifetime, or renew the authority above first"},
	{EndsEarlier, Warn, "It would end before the certificate that it replaces.",
		"It would have to be replaced sooner than the present one.",
		""},
	{Retired, Refused, "The authority is retired.", "It only revokes and publishes lists.",
		"sign by the authority that took its place"},
	{KeyLost, Refused, "The key was in a certificate that was revoked because of the key.",
		"Anyone else who has the key can use every certificate for it.",
		"ask for a new request with a new key"},
	{SuspectedKey, Refused, "An incident is about the key, and was not closed as a false alarm.",
		"Anyone else who has the key can use every certificate for it.",
		"ask for a new request with a new key"},
	{ReasonUnfit, Waivable, "The reason is not meant for this kind of certificate.",
		"Clients act on the reason: one that is wrong misleads them (RFC 5280 section 5.3.1).",
		""},
	{NotSuperseded, Warn, "The reason is superseded, but no other certificate replaces it.",
		"Its server has no other certificate to present.", ""},
	{NoListToLearn, Warn, "The certificate names no revocation list and no OCSP responder.",
		"Clients look where the certificate says. They learn of this revocation only if their own settings name the " +
			"list.",
		"publish, and have the servers that must refuse it load HANDLE.lists.pem; where that is not possible, " +
			"replace the authority's certificate"},
	{Again, Note, "It was on hold before.", "The list gives one date, the newer one.", "nothing to do"},
	{ListKeyGone, Refused, "No list can name it: the key is gone.",
		"A list is signed by the key that signed the certificate.",
		""},
	{TakesDown, Warn, "Other certificates become invalid with it.",
		"A client refuses every chain that a revoked authority is part of.",
		""},
	{SameKeyStands, Warn, "Another certificate has the same key and is still valid.",
		"Anyone who has the key can use all its certificates.", "revoke those too"},
	{SuspectedGeneration, Waivable, "An incident is open about another generation of this authority.",
		"The replacements depend on the generation whose key was not lost. If you revoke it, they become invalid too.",
		""},
	{NotOnRecord, Refused, "A key of this estate signed the certificate, but it is not on record.",
		"It was signed with a copy of the key: by a copy of the estate, by a backup, or by a thief.",
		"find out who signed it"},
	{SuspectedAnchor, Waivable, "An incident is open about the key of this root.",
		"Anyone with the key can sign for every machine that trusts the root.",
		""},
	{ListUnreachable, Refused, "The list cannot be fetched.",
		"Clients that insist on a list refuse every certificate that names the address.",
		""},
	{ListUnread, Refused, "There is no revocation list at the address.", "Clients cannot use it.",
		"serve the folder as it is written, without changing its files"},
	{ListForeign, Refused, "The list is of another authority.", "Clients do not accept it.",
		"serve the folder as it is written"},
	{ListStale, Refused, "The list is out of date.", "Clients refuse it, and then the certificates too.",
		""},
	{ListOlder, Refused, "An older list is still served.", "Clients accept what was revoked since.",
		"copy the newer folder to the web server, and look for caches in between"},
	{ListUnknown, Refused, "The list is not on record here.",
		"A key of this estate signed it, but it was not recorded. A copy of the estate, a backup, or a thief " +
			"signed it.",
		"find out who signed it"},
	{IssuerRevoked, Refused, "The authority, or one above it, was revoked.",
		"Every client that checks revocation refuses what it signs.",
		""},
	{Stopped, Refused, "The authority grants nothing while an incident is open.",
		"Another person may have its key. What it signs now would have to be revoked too.",
		""},
	{KeyElsewhere, Refused, "The key of this authority is not in this estate.", "Only whoever holds the key can sign.",
		""},
	{AnswerOtherName, Refused, "The returned certificate is for another subject.",
		"Clients build chains by name. They would accept nothing that the authority signs.",
		"ask for the answer to the request that was sent"},
	{AnswerNoAuthority, Refused, "The returned certificate cannot serve as the authority's.",
		"Clients refuse everything below it (RFC 5280 section 6.1.4 k to n).",
		"ask for a certificate by a template for authorities, with room below"},
	{AnswerTooShort, Waivable, "The returned certificate ends too early.",
		"Everything below it would end too soon.", "ask for a longer lifetime"},
	{RehearsalMade, Refused, "The certificate was made in a rehearsal.",
		"The keys of a rehearsal are for practice. Nothing from there may reach a real estate.", "do it in the real " +
			"estate"},

	{UnknownAnchor, Refused, "The chain ends at a root that is not trusted.",
		"The root was not among the anchors given.",
		""},
	{MissingIssuer, Refused, "An issuer in the middle is missing.",
		"The server must send every certificate between its own and the root; most clients fetch none.",
		""},
	{Expired, Refused, "The certificate has expired.", "Every client refuses it.",
		""},
	{NotYetValid, Refused, "The certificate is not valid yet.",
		"It begins later, or the clock of the machine is slow.",
		"check the clock of the machine that refuses it"},
	{NotAuthority, Refused, "The issuer is not an authority.",
		"Its basic constraints do not say that it is one (RFC 5280 section 6.1.4 k).", "sign it again by a real " +
			"authority"},
	{CannotSign, Refused, "The issuer's key may not sign certificates.",
		"Its key usage lacks keyCertSign (RFC 5280 section 6.1.4 n).",
		"issue the authority's certificate again, with keyCertSign"},
	{PathLength, Refused, "There are more authorities below than the path length allows.", "RFC 5280 section 6.1.4 m.",
		"issue from an authority higher up, or issue that authority again with a longer path length"},
	{BadSignature, Refused, "The signature is wrong.",
		"It was changed, or signed by another key of an authority with the same name.",
		"get the certificate again, and its issuer's certificate"},
	{UnknownCritical, Refused, "A critical extension that is not understood.",
		"A client must refuse what it does not understand (RFC 5280 section 4.2).",
		"issue it again without that extension"},
	{WrongName, Refused, "The certificate is not for this name.",
		"Clients compare the name that the user typed with the alternative names, and with nothing else.",
		"connect by a name that it has, or issue it again with this name"},
	{OnlyCommonName, Refused, "The name is only in the common name.",
		"Newer clients ignore the common name; some older ones still accept it. So one client that works proves " +
			"nothing.",
		"issue it again with the name as an alternative name"},
	{UsageMissing, Refused, "The certificate may not be used for this.",
		"Its extended key usage, or that of an authority above, lacks the usage.",
		"issue it again by a template that has this usage"},
	{ConstraintBroken, Refused, "A name outside the constraints of an authority above.",
		"RFC 5280 section 6.1.3 b and c.",
		"drop the name, or issue from an authority without this constraint"},
	{PolicyMissing, Refused, "No acceptable certificate policy holds for the whole chain.",
		"A policy must be named by every certificate, or mapped (RFC 5280 section 6.1.5 g).",
		""},
	{PolicyBroken, Refused, "The policy extensions break the rules.",
		"RFC 5280 sections 4.2.1.4 and 6.1.4 a; a client must refuse the chain.",
		"issue that certificate again without the fault"},
	{NotTheIssuer, Refused, "The next certificate is not the issuer.",
		"The chain is judged as given: each certificate must be followed by its issuer.",
		"put the files in order: the leaf, then each issuer upward"},
	{OutOfOrder, Warn, "The chain is not in order.",
		"It must run leaf, intermediates, root: most servers do not start when the leaf is not first.",
		"export it again: the program writes it in order"},
	{Stray, Note, "A certificate that is not part of the chain.", "Most clients ignore it. It makes the chain larger.",
		"leave it out"},
	{AnchorLeaf, Waivable, "A machine's certificate instead of a root.",
		"This trusts one certificate, and nothing else that its authority signs. It ends soon.",
		"ask for the root above it"},
	{AnchorSelf, Waivable, "A self-signed certificate that is no authority's.",
		"It vouches only for itself. Some stores accept it and some do not.",
		"trust it only until an authority has signed a certificate for the machine"},
	{AnchorMiddle, Warn, "An intermediate instead of a root.",
		"Some stores accept it as an anchor, others need its root. It ends earlier than its root.",
		"trust the root above it, unless you mean this one"},
	{AnchorExpired, Waivable, "The root has expired.",
		"Clients accept no chain that ends at it (RFC 5280 section 6.1).",
		"ask for the root that followed it"},
	{AnchorEarly, Warn, "The anchor is not valid yet.", "Clients refuse it until then. Or a clock is wrong.",
		"look at the clock, or wait"},
	{AnchorDigest, Warn, "The anchor is signed with a weak digest.",
		"A root is not trusted because of its own signature, but some stores refuse it.",
		"ask whether there is a newer root"},
	{Malformed, Warn, "The certificate breaks the encoding rules.",
		"Strict readers refuse it, tolerant ones accept it.", "issue it again"},
	{Broken, Refused, "The certificate cannot be understood in full.",
		"A part that cannot be read may forbid what the rest allows; strict readers refuse all of it (RFC 5280 " +
			"section 4.2).", "issue it again without the fault"},
	{OnRecord, Warn, "The records know more than a client does.",
		"A client that looks at the chain alone accepts it; the records say that another one replaced it, or that it " +
			"is prepared for a later day.",
		""},
	{Revoked, Refused, "The certificate was revoked.",
		"A valid list or OCSP answer says so (RFC 5280 section 6.3); clients that check refuse it.",
		""},
	{StatusUnknown, Refused, "The revocation status is unknown.",
		"There is no list and no OCSP answer that is fresh, of the right authority, and about this certificate.",
		""},
	{RevokedOnRecord, Refused, "The records say that it was revoked.",
		"A client with an older list may still accept it.",
		"use its replacement"},
	{SearchCut, Refused, "The search for a chain was cut short.",
		"There are too many certificates that could be issuers of each other.",
		"give only the certificates that belong to this chain"},
	{RefusedByBrowsers, Warn, "Browsers refuse this kind of key or lifetime.",
		"Measured: Chromium refuses Ed25519 and P-521 leaf keys.",
		"use rsa-2048, ecdsa-p256 or ecdsa-p384 where browsers connect"},

	{SelfMade, Refused, "The device presents its factory (self-signed) certificate.",
		"A device presents it after a reset, or if it never got another.",
		"import the certificate that was signed for it, and choose it in the device's settings"},
	{ServedOlder, Warn, "The server still presents an earlier certificate.",
		"Its replacement was not imported, or the service was not restarted.",
		""},
	{ServedRevoked, Refused, "The server still presents a revoked certificate.",
		"Clients that check revocation refuse it.",
		"import its replacement and restart the service"},
	{OldProtocol, Refused, "It supports only old protocols.",
		"TLS 1.0 and 1.1 are out of use (RFC 8996); most clients refuse them.",
		"enable TLS 1.2 or newer on the server, or update its firmware"},
	{WeakSuite, Warn, "It chose a weak cipher suite.", "Some clients refuse it.",
		"let the server prefer suites with forward secrecy and authenticated encryption"},
	{DeadSuite, Refused, "It speaks no cipher suite that clients of today offer.",
		"RC4 is out of use (RFC 7465), and 3DES too (RFC 9325 section 4.2): browsers and libraries refuse both.",
		"let the server speak AES-GCM suites, or bring its firmware up to date"},
	{NoTLS, Refused, "The server does not offer TLS.",
		"TLS is switched off there, or its certificate or key could not be loaded.",
		"switch TLS on at the server, and look into its log for why it could not"},
	{NamelessDiffers, Note, "Clients that do not name the host get another certificate.",
		"Old clients and some devices do not name it (RFC 6066 section 3).",
		"if such clients connect, make the right certificate the default"},
	{ClientWanted, Refused, "The server requires a client certificate.",
		"It lets in only clients with a certificate of an authority that it accepts.",
		""},
	{ClientAsked, Note, "The server asks for a client certificate.", "It continues without one, and may still refuse " +
		"later.",
		""},
	{HandshakeFailed, Refused, "The TLS handshake fails.", "No client can connect.",
		"look into the server's log"},
	{PartyNotReady, Waivable, "A party that must trust the new root is not known to hold it.",
		"It will refuse what is served after the switch.",
		""},
	{PartyClosed, Waivable, "A party cannot install another root.", "It will refuse what is served after the switch.",
		"replace the device, serve it the old chain, or waive this"},
	{NoAnswer, Refused, "The endpoint cannot be checked.", "Nothing answers there, or it speaks another protocol.",
		"check the address, the port and the protocol; smtp://HOST:PORT names another protocol"},
}

// earlier are codes as earlier versions called them: commands in scripts may hold them.
var earlier = sync.OnceValue(func() map[Code]Code {
	return map[Code]Code{"key-in-doubt": SuspectedKey, "another-generation-in-doubt": SuspectedGeneration,
		"anchor-in-doubt": SuspectedAnchor}
})

// Lookup finds the rule for a code, or for an earlier name of it.
func Lookup(code Code) (Rule, bool) {
	if now, ok := earlier()[code]; ok {
		code = now
	}
	for _, r := range registry {
		if r.code == code {
			return Rule{r.code, r.severity, r.title, r.why, r.remedy, next()[code]}, true
		}
	}
	return Rule{}, false
}

// Rules returns the registry in its order.
func Rules() []Rule {
	var out []Rule
	for _, r := range registry {
		rule, _ := Lookup(r.code)
		out = append(out, rule)
	}
	return out
}
