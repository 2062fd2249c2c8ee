package archive

import (
	"archive/tar"
	"encoding/binary"
	"fmt"
	"hash"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Header describes an entry in tar, POSIX.1-2001 (pax), times to the nanosecond.
func Header(e Entry) *tar.Header {
	mode, _ := strconv.ParseInt(e.Mode, 8, 32)
	h := &tar.Header{Name: e.Path, Mode: mode, Uid: e.UID, Gid: e.GID, Uname: e.User, Gname: e.Group,
		ModTime: e.MTime, Size: e.Size, Typeflag: tar.TypeReg, Format: tar.FormatPAX}
	switch e.Type {
	case TypeFolder:
		h.Typeflag, h.Name = tar.TypeDir, e.Path+"/"
	case TypeSymlink:
		h.Typeflag, h.Linkname = tar.TypeSymlink, e.Target
	case TypeHardlink:
		h.Typeflag, h.Linkname = tar.TypeLink, e.Target
	}
	if len(e.XAttrs) > 0 || e.Sparse {
		h.PAXRecords = map[string]string{}
	}
	for name, value := range e.XAttrs {
		h.PAXRecords[PAXXAttr+name] = string(value)
	}
	if e.Sparse {
		h.PAXRecords[PAXSparse] = "1"
	}
	return h
}

// EntryOf is the entry that Header describes so, without digest and part: what a list says
// of it that tar does not is not known.
func EntryOf(h *tar.Header) Entry {
	e := Entry{Type: TypeFile, Path: strings.TrimSuffix(h.Name, "/"), Mode: fmt.Sprintf("%04o", h.Mode&0o7777), UID: h.Uid, GID: h.Gid, User: h.Uname, Group: h.Gname,
		Size: h.Size, MTime: h.ModTime, Target: h.Linkname, Sparse: h.PAXRecords[PAXSparse] != ""}
	switch h.Typeflag {
	case tar.TypeDir:
		e.Type = TypeFolder
	case tar.TypeSymlink:
		e.Type = TypeSymlink
	case tar.TypeLink:
		e.Type = TypeHardlink
	}
	for key, value := range h.PAXRecords {
		if name, ok := strings.CutPrefix(key, PAXXAttr); ok {
			if e.XAttrs == nil {
				e.XAttrs = map[string][]byte{}
			}
			e.XAttrs[name] = []byte(value)
		}
	}
	return e
}

// HashMeta adds what a header says of an entry but its name and length: kind, permissions
// with set-id bits, owner, time, where a link leads, extended attributes. Two headers of
// which it makes the same restore the same.
func HashMeta(to hash.Hash, h *tar.Header) {
	fixed := []byte{h.Typeflag}
	for _, n := range []int64{h.Mode & 0o7777, int64(h.Uid), int64(h.Gid), h.ModTime.UnixNano()} {
		fixed = binary.AppendVarint(fixed, n)
	}
	_, _ = to.Write(fixed)
	text := func(s string) {
		_, _ = to.Write(binary.AppendUvarint(nil, uint64(len(s))))
		_, _ = io.WriteString(to, s)
	}
	for _, s := range []string{h.Uname, h.Gname, h.Linkname} {
		text(s)
	}
	for _, key := range slices.Sorted(maps.Keys(h.PAXRecords)) {
		if strings.HasPrefix(key, PAXXAttr) || key == PAXSparse {
			text(key)
			text(h.PAXRecords[key])
		}
	}
}
