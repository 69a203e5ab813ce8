// Package island gives tests Tern Island's plan, whole or with parts of it replaced.
package island

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Waived is how the plan says that researchers are asked for no second factor.
const Waived = "    second-factor: {waived: \"researchers are on the ice for months, without a phone\"}\n"

// Text is the plan's text with each odd one of replace put in place of the even one before it, which must stand there once.
func Text(t testing.TB, replace ...string) string {
	s, err := demo.Load("")
	require.NoError(t, err)
	for i := 0; i < len(replace); i += 2 {
		require.Equal(t, 1, strings.Count(s.Plan, replace[i]), "what is replaced stands once: %q", replace[i])
	}
	return strings.NewReplacer(replace...).Replace(s.Plan)
}

// Model is the plan compiled for its gateway.
func Model(t testing.TB, replace ...string) *site.Model {
	d, err := plan.Read(Text(t, replace...))
	require.NoError(t, err)
	m, err := site.Compile(&d.Plan, "jetty")
	require.NoError(t, err)
	return m
}
