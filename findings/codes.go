package findings

// The codes, and what each tells of.

import (
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// The codes of warnings, which do not change from release to release.
const (
	PolicyForNobody   = "policy-for-nobody"
	EmptyGroup        = "empty-group"
	UnreachableCase   = "unreachable-case"
	UnreachableStage  = "unreachable-stage"
	SamePolicy        = "same-policy"
	SameCase          = "same-case"
	WaiverOver        = "waiver-over"
	WaiverEnding      = "waiver-ending"
	Unused            = "unused"
	NeverOpen         = "never-open"
	AppOfNoPolicy     = "app-of-no-policy"
	AppNotEnforced    = "app-not-enforced"
	UndatedExpect     = "undated-expectation"
	OnlyIPv4          = "only-ipv4"
	CannotEnrol       = "cannot-enrol"
	BreakGlassUnready = "break-glass-unready"
	Unsupplied        = "unsupplied-fact"
	WeakMethod        = "weak-method"
	ConsentUnasked    = "consent-unasked"
	AcceptsNothing    = "accepts-nothing"
	UnclearAcceptance = "unclear-acceptance"

	Twins               = "twins"
	NearGroup           = "near-group"
	WordOfNothing       = "word-of-nothing"
	UnlocatedNetwork    = "unlocated-network"
	OverlappingNetworks = "overlapping-networks"
	UnknownOwner        = "unknown-owner"
	ImpossibleScope     = "impossible-scope"
	UnheardSignals      = "unheard-signals"
	UntoldAlert         = "untold-alert"
	UntoldDigest        = "untold-digest"
	NoisyAlert          = "noisy-alert"
	TokenOver           = "token-over"
	TokenEnding         = "token-ending"

	// Those of [Options.Exact].
	CaseNeverTaken      = "case-never-taken"
	PolicyWithoutEffect = "policy-without-effect"
	WaiverWithoutEffect = "waiver-without-effect"
	LockedOut           = "locked-out"
	AppLocked           = "app-locked"
)

// Codes are all codes of warnings, those of loading a rulebook included.
func Codes() []string {
	codes := []string{PolicyForNobody, EmptyGroup, UnreachableCase, UnreachableStage, SamePolicy, SameCase, WaiverOver, WaiverEnding, Unused, NeverOpen,
		AppOfNoPolicy, AppNotEnforced, UndatedExpect, OnlyIPv4, CannotEnrol, BreakGlassUnready, Unsupplied, WeakMethod, ConsentUnasked, AcceptsNothing,
		UnclearAcceptance, Twins, NearGroup, WordOfNothing, UnlocatedNetwork, OverlappingNetworks, UnknownOwner, ImpossibleScope, UnheardSignals, UntoldAlert, UntoldDigest, NoisyAlert, TokenOver, TokenEnding,
		CaseNeverTaken, PolicyWithoutEffect, WaiverWithoutEffect, LockedOut, AppLocked}
	for _, code := range []diag.Code{rulebook.CutShort, rulebook.RepeatedItem, rulebook.UnusedTag, rulebook.TextOfNothing, rulebook.DomainOfNobody, rulebook.MissingMember, rulebook.SameGroupName} {
		codes = append(codes, string(code))
	}
	return codes
}

// about says of every code what it tells of.
var about = map[diag.Code]string{
	diag.Syntax:  "A text that does not parse.",
	diag.Invalid: "A name, value or clause that cannot be.",
	diag.File:    "A file that cannot be read.",

	rulebook.RepeatedItem:   "The same item stands twice in a list.",
	rulebook.UnusedTag:      "No app carries the tag.",
	rulebook.TextOfNothing:  "A text in another language of what nobody is ever told.",
	rulebook.DomainOfNobody: "No user has the mail domain.",
	rulebook.MissingMember:  "A group's member, or a user's group, that no file has.",
	rulebook.SameGroupName:  "Two groups of one file under one name, which count as one.",
	rulebook.CutShort:       "An export with fewer people than it says that there are.",

	PolicyForNobody:     "Nobody is among the policy's people.",
	EmptyGroup:          "Nobody is in the group.",
	UnreachableCase:     "A case before it in the policy has the same condition, or is always true.",
	UnreachableStage:    "A stage line that never comes into force, since one before it holds for everybody, always.",
	SamePolicy:          "Another policy says the same.",
	SameCase:            "Another policy for the same people, apps and actions holds the same rule.",
	UntoldAlert:         "An alert that nobody is told.",
	UntoldDigest:        "A digest that nobody is sent.",
	NoisyAlert:          "An alert that would have been sent more than 50 times a day, by the rulebook's own history.",
	UnheardSignals:      "No caller may send the signals of a source that is not asked for them.",
	TokenOver:           "The last day of a caller's token is past.",
	TokenEnding:         "The last day of a caller's token comes within 30 days.",
	WaiverOver:          "The waiver's last day is past.",
	WaiverEnding:        "The waiver's last day comes within 30 days.",
	Unused:              "A network, schedule, baseline, set of countries, demand, attribute or risk model that nothing asks about.",
	CaseNeverTaken:      "No possible sign-on takes the case; at most some leave it open.",
	PolicyWithoutEffect: "Without the policy, no possible sign-on would come out otherwise.",
	WaiverWithoutEffect: "Without the waiver, no possible sign-on would come out otherwise.",
	LockedOut:           "Somebody is blocked from every app, with whatever they are enrolled in.",
	AppLocked:           "Nobody ever gets into the app with what they are enrolled in.",
	Twins:               "People, or groups, whose names differ only in what is easily overlooked: each counts as one of its own.",
	NearGroup:           "A group that only user blocks name, called nearly as one that something else names.",
	WordOfNothing:       "A condition compares with a word that nothing in the inventory, the directory or the log has.",
	OverlappingNetworks: "Addresses of a trusted network lie in one that is not.",
	UnlocatedNetwork:    "A network that no geo source knows, while a case blocks by country.",
	ImpossibleScope:     "A set of scopes names what cannot be a scope (RFC 6749), so that nothing is ever in it.",
	UnknownOwner:        "Devices of the inventory whose owner nobody knows.",
	NeverOpen:           "A schedule that is open on none of its dates, or on no day of the year ahead.",
	AppOfNoPolicy:       "No policy is for the app.",
	AppNotEnforced:      "No policy for signing on to the app is enforced yet.",
	OnlyIPv4:            "A block or step-up outside networks that list only IPv4: every IPv6 address counts as elsewhere.",
	CannotEnrol:         "People who cannot meet a demand with what they are enrolled in, and whom no policy lets enrol.",
	BreakGlassUnready:   "An emergency account that is not enrolled in what is asked of it.",
	Unsupplied:          "A block, step-up or risk factor behind a fact that nothing supplies.",
	WeakMethod:          "A method that can be phished by telephone or mail is accepted for an app with the tag sensitive.",
	ConsentUnasked:      "Client applications get an app's data unasked.",
	UndatedExpect:       "An expectation whose outcome could depend on the time, and which says no at.",
	AcceptsNothing:      "A comment that accepts nothing.",
	UnclearAcceptance:   "A comment that does not say what it accepts, and why.",
}

// About says what a code tells of, in a sentence.
func About(code string) string { return about[diag.Code(code)] }
