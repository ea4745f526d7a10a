// Package bridge leads the public packages of this module from the types of the root package to
// what is inside them, and back, which nobody else can. The root package sets its variables when
// it is initialised; they are variables because the root imports nothing that imports it.
package bridge

import (
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Engine gives the engine inside a *briskwarden.Rulebook.
var Engine func(rules any) *engine.Engine

// Beside gives a *briskwarden.Rulebook that decides beside what is remembered of one person and session.
var Beside func(rules any, recalled *engine.Recalled) any

// With gives a *briskwarden.Rulebook like another, with other people.
var With func(rules any, people map[string]*rulebook.Person) any

// Open gives the *briskwarden.Rulebook of a resolved rulebook without errors.
var Open func(rb *rulebook.Rulebook) any

// Problem gives the briskwarden.Problem that a finding about a rulebook is.
var Problem func(rb *rulebook.Rulebook, d diag.Diagnostic) any
