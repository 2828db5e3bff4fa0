package finding

import (
	"sync"

	"ironseal/pki/advice"
)

// next are the acts of the program that are the remedy of a finding, or follow its remedy.
var next = sync.OnceValue(func() map[Code]advice.List {
	return map[Code]advice.List{
		ReceiverDemand: {advice.To("list the templates and choose one that has it", advice.ListTemplates)},
		SuspectedKey: {advice.To("if it was a false alarm", advice.CloseIncident, "false-alarm", "", "because",
			advice.Asked)},
		ReasonUnfit:   {advice.To("choose another; the help tells when each fits", advice.RevokeHelp)},
		NotSuperseded: {advice.To("renew it first", advice.RenewCertificate)},
		ListKeyGone: {advice.To("revoke the authority itself", advice.Revoke, "certificate", "HANDLE", "reason",
			"cessation-of-operation")},
		TakesDown: {advice.To("if there is time, sign their replacements first", advice.OpenIncident,
			"because", advice.Asked)},
		SuspectedGeneration: {advice.To("revoke the generation that the incident names", advice.ListIncidents)},
		NotOnRecord: {advice.To("if it was issued here after a backup that was restored",
			advice.ImportCertificate), advice.To("if its origin stays unknown", advice.OpenIncident, "because",
			advice.Asked)},
		SuspectedAnchor: {advice.To("leave it out, and install the root that replaces it", advice.ListIncidents)},
		ListUnreachable: {advice.To("check that the web server runs and serves the published folder",
			advice.PublishLists, "folder", "DIR")},
		ListStale:     {advice.To("publish again", advice.PublishLists, "folder", "DIR")},
		ListUnknown:   {advice.To("if no colleague did", advice.OpenIncident, "because", advice.Asked)},
		IssuerRevoked: {advice.To("renew it with a new key first", advice.RenewAuthority, "why", "TEXT")},
		Stopped:       {advice.To("continue with the incident", advice.ListIncidents)},
		KeyElsewhere:  {advice.To("send the request to where the key is", advice.PackTransfer)},
		MissingIssuer: {advice.To("add the missing authority's certificate to the chain file",
			advice.ExportCertificate, "with", "issuers")},
		Expired:  {advice.To("renew it", advice.RenewCertificate)},
		OnRecord: {advice.To("use the certificate that is in use", advice.ListCertificates)},
		Revoked: {advice.To("use its replacement, or sign a new one for a new request",
			advice.RenewCertificate, "request", advice.Asked)},
		RevokedOnRecord: {advice.To("publish the list", advice.PublishLists, "folder", "DIR")},
		ServedOlder:     {advice.To("import the newer one and restart the service", advice.HandOver)},
		PartyNotReady:   {advice.To("install the kit there and import its report", advice.RecordReport)},
		NoNames:         {advice.To("add the names that users will type", advice.AddName)},
		CommonNameOdd:   {advice.To("if users reach the host by another name, add that", advice.AddName)},
		ShortName:       {advice.To("add the full name", advice.AddName, "name", "HOST.DOMAIN")},
		BadName:         {advice.To("ask what was meant, and add that", advice.AddName)},
		BadField:        {advice.To("set the subject", advice.SetSubject)},
		BareDomain:      {advice.To("ask which hosts are meant, and add those", advice.AddName)},
		EmptySubject:    {advice.To("set one if people should see it", advice.SetSubject)},
		CommonNames:     {advice.To("set the subject with one", advice.SetSubject)},
		HostileText:     {advice.To("set the subject", advice.SetSubject)},
		BadCountry:      {advice.To("set the subject", advice.SetSubject)},
		NoAuthorityMade: {advice.To("use a template that makes one", advice.UseTemplate, "template",
			"intermediate-authority")},
		NameMissing:        {advice.To("add the names that users will type", advice.AddName)},
		SubjectMissing:     {advice.To("set the subject", advice.SetSubject)},
		SubjectTaken:       {advice.To("choose another subject", advice.SetSubject)},
		CrossWithoutLimits: {advice.To("give the names that it may certify", advice.MayCertify)},
		EndsEarlier:        {advice.To("choose a longer lifetime", advice.SetLifetime)},
		UnknownAnchor:      {advice.To("install that root at the client, or give it", advice.GiveAnchor)},
		PolicyMissing:      {advice.To("issue the certificates with the policy, or ask for another", advice.AskPolicy)},
		ClientWanted:       {advice.To("probe with one", advice.GiveClient)},
		ClientAsked:        {advice.To("probe with one", advice.GiveClient)},
		NameNotAllowed:     {advice.To("or drop it", advice.DropName)},
		StatusUnknown: {advice.To("give one", advice.GiveRevocations), advice.To("or fetch it from the address in "+
			"the certificate", advice.Fetch)},
	}
})
