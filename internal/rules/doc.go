// Package rules is a floor, not code: pure functions of time and lists. Schedule says
// when a duty is due, retention which archives stay. Both are told what the time is
// and touch nothing.
package rules
