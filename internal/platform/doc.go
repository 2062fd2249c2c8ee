// Package platform is a floor, not code: what the program needs of the machine that
// it runs on. Disk is the only way to the local file system, and fails on request;
// state is the program's own folder; encryption, progress and reason are used all
// over; scratchserver runs database servers; autostart has the system start us.
package platform
