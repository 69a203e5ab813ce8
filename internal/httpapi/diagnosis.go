package httpapi

import (
	"context"

	"yellowlantern/internal/app/diagnosis"
)

type complaint struct {
	User      string   `json:"user" minLength:"1" maxLength:"64" doc:"Who complains."`
	Complaint string   `json:"complaint" enum:"cannot-connect,reaches-nothing,reaches-some,names-fail,slow,drops"`
	To        string   `json:"to,omitempty" doc:"What they do not reach: a host, name or address."`
	Service   string   `json:"service,omitempty" doc:"By which service, such as tcp/443."`
	NoTrial   bool     `json:"no-trial,omitempty" doc:"Look at what is known already, and try nothing."`
	Vantages  []string `json:"vantages,omitempty" nullable:"false" doc:"Where to try from; none: the first that there is."`
}

func (s *Server) diagnosisRoutes() {
	d := s.App.Diagnosis
	register(s, "POST", "/diagnose", "diagnose", "From a complaint to its likely causes, each with the change that mends it", func(ctx context.Context, in *struct{ Body complaint }) (*body[diagnosis.Diagnosis], error) {
		out, _, err := d.Diagnose(ctx, diagnosis.Complaint(in.Body))
		return answered(out, err)
	})
	register(s, "POST", "/diagnose/bundle", "bundle", "The same, with its evidence, as a ZIP file without secrets for whoever helps", func(ctx context.Context, in *struct{ Body complaint }) (*written, error) {
		out, evidence, err := d.Diagnose(ctx, diagnosis.Complaint(in.Body))
		if err != nil {
			return nil, err
		}
		b, err := d.Bundle(ctx, out, evidence)
		return &written{"application/zip", b}, err
	})
}
