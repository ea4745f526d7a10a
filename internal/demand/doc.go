// Package demand has what people prove: methods and assurance levels, how fresh a proof
// must be, whether a demand is met, whether it can be, and what remains to be done.
package demand
