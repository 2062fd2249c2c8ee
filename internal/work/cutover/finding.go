package cutover

// Kind is what kind of thing was found.
type Kind string

// What may be found.
const (
	// ServerAmiss: the server Name of the zone, at At, does not answer for it, and how (Value).
	ServerAmiss Kind = "server-amiss"
	// SerialsDiffer: the servers of zone Name have different versions of it.
	SerialsDiffer Kind = "serials-differ"
	// DelegationDiffers: the zone above, Name, names the servers Values, the zone itself Others.
	DelegationDiffers Kind = "delegation-differs"
	// ServersDiffer: the server At says Values of Name's records of type Value, the others Others.
	ServersDiffer Kind = "servers-differ"
	// NameUnknown: what Name's records of type Value are could not be found out.
	NameUnknown Kind = "name-unknown"
	// OtherZone: Name does not lie in the zone Value, and has to be planned by itself.
	OtherZone Kind = "other-zone"
	// LeftBehind: Name has records of type Value, and the new machine no such address: whoever uses
	// them would go on to the old one, Values.
	LeftBehind Kind = "left-behind"
	// AliasInside: Name is an alias of Value, in the same zone, which changes in its place.
	AliasInside Kind = "alias-inside"
	// AliasOutside: Name is an alias of Value, which somebody else looks after.
	AliasOutside Kind = "alias-outside"
	// AliasAtTop: Name is the zone's own, and an alias: its mail records count for nothing.
	AliasAtTop Kind = "alias-at-top"
	// Wildcard: all names that are not there lead to the old machine, Values.
	Wildcard Kind = "wildcard"
	// MailFollows: mail for the domain is brought to Name, which changes.
	MailFollows Kind = "mail-follows"
	// MailImplicit: Name has no MX record, so mail for it goes to its address (RFC 5321, 5.1).
	MailImplicit Kind = "mail-implicit"
	// MailOnOld: mail for the domain is brought to Name, which is on the old machine, Values.
	MailOnOld Kind = "mail-on-old"
	// SenderNamesOld: Value, part of the TXT record of Name, lets the old machine send mail.
	SenderNamesOld Kind = "sender-names-old"
	// IssuersLimited: only Values may issue certificates for Name.
	IssuersLimited Kind = "issuers-limited"
	// Captive: the resolver Name answers Values for a name that cannot be there.
	Captive Kind = "captive"
	// BadSignatures: the resolver Name refuses the answers, for their signatures do not hold.
	BadSignatures Kind = "bad-signatures"
	// ResolverAmiss: the resolver Name does not answer, and how (Value).
	ResolverAmiss Kind = "resolver-amiss"
	// SplitHorizon: the resolver Name says Values, which are addresses of a network within, the
	// zone's own servers Others.
	SplitHorizon Kind = "split-horizon"
	// BehindProxy: what answers for Name now is a proxy before the host, as its header Value says.
	BehindProxy Kind = "behind-proxy"
	// NewSilent: the new machine, At, does not answer for Name.
	NewSilent Kind = "new-silent"
	// NewFails: it answers with the status Value.
	NewFails Kind = "new-fails"
	// NewCertificate: the certificate that the new machine, At, shows for Name will not do.
	NewCertificate Kind = "new-certificate"
	// OtherSite: the new machine redirects Name to Value, another host.
	OtherSite Kind = "other-site"
	// DefaultSite: the new machine answers the same for a name that it cannot know.
	DefaultSite Kind = "default-site"
	// OtherTitle: the titles of the front page differ: Value on the new machine, Others on the old.
	OtherTitle Kind = "other-title"
	// NotCarried: the new name servers do not say of Name and type Value what the old ones do.
	NotCarried Kind = "not-carried"
	// KeysChange: the zone above vouches for the zone's keys, which new name servers do not have.
	KeysChange Kind = "keys-change"
	// NewServersFail: the new name servers do not answer for the zone.
	NewServersFail Kind = "new-servers-fail"
)

// notes are kinds that are only worth a word; all others stand in the way.
var notes = map[Kind]bool{AliasInside: true, Wildcard: true, IssuersLimited: true, OtherTitle: true, MailOnOld: true, SplitHorizon: true, SerialsDiffer: true, ResolverAmiss: true, DefaultSite: true}

// Finding is something that a person should know before names are changed.
type Finding struct {
	Kind   Kind     `json:"kind"`
	Name   string   `json:"name,omitempty"`
	At     string   `json:"at,omitempty"`
	Value  string   `json:"value,omitempty"`
	Values []string `json:"values,omitempty"`
	Others []string `json:"others,omitempty"`
	Why    string   `json:"why,omitempty"`
}

// Grave tells whether it has to be dealt with before the cutover.
func (f Finding) Grave() bool { return !notes[f.Kind] }

func (p *Plan) find(f Finding) { p.Findings = append(p.Findings, f) }
