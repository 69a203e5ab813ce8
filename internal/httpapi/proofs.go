package httpapi

import (
	"bytes"
	"context"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/report"
)

type written struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (s *Server) proofRoutes() {
	p := s.App.Proofs
	register(s, "GET", "/proof", "prove", "Hold the expectations against computed reach", func(ctx context.Context, in *Drafted) (*body[proofs.Proof], error) {
		return answered(p.Proof(ctx, in.Draft))
	})
	register(s, "GET", "/board", "board", "The reach board", func(ctx context.Context, in *proofs.BoardWindow) (*body[proofs.Board], error) {
		return answered(p.Board(ctx, *in))
	})
	register(s, "GET", "/journey", "journey", "One packet's way there and back", func(ctx context.Context, in *proofs.JourneyRequest) (*body[proofs.JourneyAnswer], error) {
		return answered(p.Journey(ctx, *in))
	})
	register(s, "POST", "/journeys", "journeys", "The ways of many packets, without their stages", func(ctx context.Context, in *struct {
		Body proofs.ManyJourneys
	},
	) (*body[[]proofs.JourneyResult], error) {
		return answered(p.Journeys(ctx, in.Body))
	})
	register(s, "GET", "/reach", "reach", "Somebody's reach as sets of addresses and services", func(ctx context.Context, in *proofs.DataRequest) (*body[proofs.DataAnswer], error) {
		return answered(p.Data(ctx, *in))
	})
	register(s, "GET", "/report", "report", "Findings, proof, trials, differences and acceptances of the running plan", func(ctx context.Context, _ *struct{}) (*body[report.Report], error) {
		r, err := p.Report(ctx)
		if err != nil {
			return nil, err
		}
		return answer(*r), nil
	})
	register(s, "GET", "/report/{format}", "report-as", "The report as a page to print, or as JUnit XML for pipelines", func(ctx context.Context, in *struct {
		Format string `path:"format" enum:"html,junit"`
	},
	) (*written, error) {
		r, err := p.Report(ctx)
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		if in.Format == "junit" {
			err = r.JUnit(&b)
			return &written{"application/xml; charset=utf-8", b.Bytes()}, err
		}
		err = r.HTML(&b)
		return &written{"text/html; charset=utf-8", b.Bytes()}, err
	})
}
