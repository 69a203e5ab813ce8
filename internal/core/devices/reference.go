package devices

import (
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/core/algorithm"
)

// Reference is docs/devices.md: what devices offer, and every algorithm with its entry of the registry.
func Reference() string {
	var b strings.Builder
	b.WriteString(`# Devices and algorithms

Made by ` + "`make docs`" + ` from the data that findings and tests use (package ` + "`devices`" + `).

## What systems' own clients offer

None of these devices could be tried here but our own client: each row is from its maker's published documents, and marked *unverified* until somebody tries it.
What a device offers by itself, and what it can be set to, is tried with an initiator that offers just that (` + "`TestDevicesAsTold`" + `).

| | comes in by itself at level | once it is set up, at level | logs in by | renews IKE, ESP after | with a key exchange | IKE in parts (RFC 7383) | moves (RFC 4555) | set up by |
|---|---|---|---|---|---|---|---|---|
`)
	for _, p := range Platforms {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s, %s | %s | %s | %s | %s |\n", p.Name, admitted(p.Default), admitted(p.Able),
			strings.Join(p.Logins, ", "), lasts(p.RenewsIKE), lasts(p.RenewsESP), yes(p.PFS), yes(p.Fragments), yes(p.Moves), p.Setting)
	}
	b.WriteString("\n| | offers by itself | source | |\n|---|---|---|---|\n")
	for _, p := range Platforms {
		tried := "unverified"
		if p.Tried {
			tried = "tried"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", p.Name, p.Default, p.Source, tried)
	}
	b.WriteString("\n| | wants of the gateway's certificate | kinds of keys that it surely takes | calls itself | asks for | learns routes | names | IPv6 " +
		"| goes on after |\n|---|---|---|---|---|---|---|---|---|\n")
	for _, p := range Platforms {
		asks := p.AsksFor
		if p.NamesNone {
			asks += ": of several tunnels it gets the gateway's first"
		}
		row := []string{
			p.Name, p.Demands, strings.Join(p.Takes, ", "), p.CallsItself, asks, p.Routes, p.Names, p.IPv6, lasts(p.Sleeps),
		}
		fmt.Fprintf(&b, "| %s |\n", strings.Join(row, " | "))
	}
	b.WriteString(`
This gateway takes and sends IKE messages in parts, and follows devices that move (MOBIKE), and those that cannot tell by the address that their authentic
packets come from. Of the ways of logging in it carries out eap-mschapv2, certificate, public-key (RFC 7670), pre-shared-key, and a certificate with a password behind it (RFC 4739). A key that is mixed into those for traffic (RFC 8784) yl dial alone has. A device that says that it has no other session (INITIAL_CONTACT) ends, once it has logged
in, what is left of an older one of the same person under the same name of the device, and has its address again. Packets have sequence numbers of 64 bits (ESN,
RFC 4303 §2.2.1) where a device offers them. An additional key exchange by ML-KEM (RFC 9370, between IKE_SA_INIT and IKE_AUTH by RFC 9242) is made where both sides have one, and keys
that are renewed are made of those before; renewals have an additional exchange of their own (IKE_FOLLOWUP_KE) where the device asks for one. Apple's systems have it from version 26 on.

## Algorithms

A tunnel names them by a level, item by item, or both: ` + "`algorithms: {level: strict, groups: [MODP-2048]}`" + `. Each word is an entry of IANA's registry
"Internet Key Exchange Version 2 (IKEv2) Parameters". What is in no level is named by itself.

| word | kind | entry | number | key | from level | source | |
|---|---|---|---|---|---|---|---|
`)
	for _, a := range algorithm.All {
		bits, level := "", a.Level
		if a.Bits > 0 {
			bits = fmt.Sprintf("%d bits", a.Bits)
		}
		if level == "" {
			level = "none"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s | %d | %s | %s | %s | %s |\n", a.Name, a.Kind, a.Entry, a.Number, bits, level, a.Source, a.Weak)
	}
	return b.String()
}

// admitted is the first level that takes an offer.
func admitted(offer algorithm.Set) string {
	for _, level := range []string{algorithm.Strict, algorithm.Broad, algorithm.Legacy} {
		set := algorithm.OfLevel(level)
		if set.Lacks(offer).None() {
			return level
		}
	}
	return "none"
}

func lasts(d time.Duration) string {
	if d == 0 {
		return "not told"
	}
	return fmt.Sprintf("%g h", d.Hours())
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}
