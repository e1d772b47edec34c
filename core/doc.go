// Package core is the heart of Homing, in packages of their own: what a record is, what a change is, how edits merge,
// how clocks are corrected. Everything here computes: values come in, values go out. There is no file, network,
// database, wall clock or randomness, so the same code gives the same result at central and on every device.
package core
