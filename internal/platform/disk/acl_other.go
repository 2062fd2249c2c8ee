//go:build !linux

package disk

func hasACL(string) bool { return false }
