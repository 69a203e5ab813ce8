package plan

// Where in a person's certificate their name stands.
const (
	NameFromMail      = "mail"
	NameFromPrincipal = "principal-name"
	NameFromCommon    = "common-name"
	NameFromUserID    = "user-id"
)

// How it is found out whether a certificate is revoked.
const (
	RevocationBoth  = "ocsp-or-lists"
	RevocationOCSP  = "ocsp"
	RevocationLists = "lists"
	RevocationNone  = "none"
)

// What is done with somebody of whose certificate that is not known.
const (
	UnknownRefuse = "refuse"
	UnknownAdmit  = "admit"
)

// Authority is one, beside the service's own, that issues certificates to people.
type Authority struct {
	Name        string   `json:"name" eg:"mainland-institute" doc:"Its name."`
	Certificate string   `json:"certificate" lines:"many" eg:"-----BEGIN CERTIFICATE----- and so on" doc:"Its certificate, PEM; several below each other, of which each is believed by itself." then:"Whoever has a certificate of it that names one of the users comes in as that user."`
	PersonFrom  string   `json:"name-from,omitempty" enum:"mail,principal-name,common-name,user-id" doc:"Where in a person's certificate the name stands by which they are known here: mail: an address among the alternative names; principal-name: the name that directories write there; common-name and user-id: of the subject. mail if not given."`
	Domain      string   `json:"domain,omitempty" eg:"tern.example" doc:"What the name must end with, after an @, which is then left out: rory@tern.example is the user rory. If not given, the user is called by the whole name."`
	Revocation  string   `json:"revocation,omitempty" enum:"ocsp-or-lists,ocsp,lists,none" doc:"How it is found out whether a certificate is revoked: by asking the authority's server (OCSP), by its revocation lists, or by the lists where the server gives no answer. ocsp-or-lists if not given."`
	Lists       []string `json:"lists,omitempty" nullable:"false" eg:"http://pki.tern.example/people.crl" doc:"Where its revocation lists are; those that certificates name if not given." then:"They are fetched before anybody needs them."`
	OCSP        string   `json:"ocsp,omitempty" eg:"http://pki.tern.example/ocsp" doc:"Where its server is asked; the one that certificates name if not given."`
	Unknown     string   `json:"when-unknown,omitempty" enum:"refuse,admit" doc:"What is done with somebody where neither a list nor an answer can be had. refuse if not given." then:"refuse: who takes the authority's server away keeps people outside. admit: and who does so comes in with a revoked certificate."`
}

// NameFrom is where names stand.
func (a Authority) NameFrom() string { return or(a.PersonFrom, NameFromMail) }

// FoundOut is how it is found out whether a certificate is revoked.
func (a Authority) FoundOut() string { return or(a.Revocation, RevocationBoth) }

// Admits tells whether people come in of whose certificate it is not known.
func (a Authority) Admits() bool { return a.Unknown == UnknownAdmit }

func or(word, otherwise string) string {
	if word == "" {
		return otherwise
	}
	return word
}
