package site

// Forwarding asks each station what becomes of a packet and nothing else: it gets a yes or no and the setting as a Ref. The words of a
// Verdict are made from the same decisions, for journeys and proofs, when somebody reads them.

// Ref names a setting by its parts, so that naming one costs nothing until it is read.
type Ref struct{ List, Name, Field string }

// String is the setting's path.
func (r Ref) String() string {
	out := r.List
	if r.Name != "" {
		out += "/" + r.Name
	}
	if r.Field != "" {
		out += "/" + r.Field
	}
	return out
}
