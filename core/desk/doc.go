// Package desk decides what becomes of changes. It is one computation without I/O: somebody loads what it needs
// ([Loaded]), the desk decides ([Work]), and somebody writes what it decided ([Decided]). Central does so on
// PostgreSQL, rehearsals on tables in memory.
//
// Each change is answered from memory if central has answered it before. Otherwise it is checked, merged by package
// merge, held against its family, given what central gives, and held against the rules of its collection. One bad
// change does not stop the next: it harms only itself, its group and what hangs on it.
//
// The files follow the way of a change: read.go brings it into its present form, need.go says what must be loaded for
// it, group.go puts units into order, work.go and take.go decide, family.go and give.go are the parts of that which
// concern parents and values that central gives, and totals.go works out what is computed.
package desk
