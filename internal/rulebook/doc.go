// Package rulebook turns a folder into one resolved, immutable rulebook: its files read,
// its names bound, everything that is wrong with it collected.
package rulebook
