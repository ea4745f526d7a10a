// Package fastlog reads the lines of sign-on logs: what signon.DecodeLogged reads, several times as fast.
//
// Most lines of a log are of few shapes. A [Reader] learns from lines that the JSON library read
// a finite automaton of the texts that stood between values; of a line whose shape it knows it only
// compares those texts, and takes the values out. Everything else the library reads.
package fastlog
