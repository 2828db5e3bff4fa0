// Package app holds one package for each group of acts, and the tests of what
// happens where two of them cross.
//
// An act has one shape. It reads the records at one moment, lets the core plan,
// and returns the plan for a person to see; nothing is locked while they read.
// Once they agree it opens the key, signs, and in one short transaction checks
// that the records it planned from are still the same, writes the new ones and
// links the journal. Only after the commit does the result leave the package.
//
// Nothing here prints or asks, and no package here knows who acts: the estate
// that an act is given does.
package app
