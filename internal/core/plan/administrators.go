package plan

// Administrators are people of a source who may sign in to the service itself.
type Administrators struct {
	Name   string   `json:"name" eg:"keepers" doc:"Its name."`
	Source string   `json:"source" ref:"sources" doc:"Where they are kept: a source that can look people up, so that who is taken out of it is noticed."`
	Groups []string `json:"groups" nullable:"false" eg:"cn=vpn-keepers,ou=groups,dc=tern,dc=example" doc:"The groups there whose people they are: distinguished names, or common names, with * for any part, which match anywhere in the directory." then:"The directory's administrators decide who administers this service."`
	Role   string   `json:"role" enum:"administrator,operator,help-desk,auditor" doc:"What they may do: administrator: everything. operator: watches, tries, and ends sessions. help-desk: looks after people. auditor: reads."`
	Off    bool     `json:"off,omitempty" doc:"Keeps it without letting anybody in by it."`
}

// Keepers are the entries by which administrators of sources sign in now, the first that fits first.
func (p *Plan) Keepers() (out []Administrators) {
	for _, a := range p.Administrators {
		if !a.Off {
			out = append(out, a)
		}
	}
	return out
}
