//go:build !linux

package disk

// mountTable is none.
const mountTable = ""
