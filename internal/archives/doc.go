// Package archives is a floor, not code: what an archive is and where it is found.
// Package archive is the format (docs/FORMAT.md): record, list, part. Catalog finds
// archives in stores and judges them, storelock keeps machines apart, portable makes
// one file of an archive, changes tells what differs from the one before.
package archives
