// Package possible has the space of all possible sign-ons of one or two rulebooks, and in it, as
// propositions, what is decided on them.
//
// A fact takes part only by the answers that conditions get about it. So the values of each fact fall
// into a few cells within which no comparison of the rulebook can tell one from another: the addresses
// between two prefixes, the numbers between two bounds, the words that are named and one that is not,
// people whom the same selectors and comparisons hold for. An [axis] lists, for one fact, a value of
// each cell, as something that a sign-on states; what comparisons answer to it is asked of the engine
// itself, on a sign-on that states it ([engine.Engine.Probe]). Nothing here says what a comparison means.
//
// A [Space] is the possible sign-ons to one app for one action: a formula with a variable for each cell
// and two for each comparison (it is true; it is not false), clauses that bind the ones to the others,
// and on top of them conditions, demands and policies put together as the engine does. Cells that nothing
// asked in the space can tell apart share a variable. Three kinds of facts have a form of their own:
//
//   - Time is a line: a variable for each date that matters ("not before it"), in their order, and one for
//     each state that the schedules can be in together, where and when they are.
//   - Proof is, for each method, which freshness some record of it reaches: any set of those is possible
//     that has with each what follows from it.
//   - The scopes of a consent are, for each kind of scope that the sets tell apart, whether one is asked.
//
// What a solver finds is made into a sign-on of whole values ([Space.SignOn]), which whoever asked has
// the engine decide before it is shown.
package possible
