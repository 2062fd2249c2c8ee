package archive

import "encoding/binary"

// The extended attributes that hold access control lists on Linux (acl(5), xattr(7)).
const (
	ACLAccess  = "system.posix_acl_access"
	ACLDefault = "system.posix_acl_default"
)

// IsACL tells whether an extended attribute is an access control list.
func IsACL(name string) bool { return name == ACLAccess || name == ACLDefault }

// The form of such an attribute, as the kernel has it (include/uapi/linux/posix_acl_xattr.h): a version, and entries of a
// tag, permissions and a number, little endian.
const (
	aclVersion = 2
	aclEntry   = 8
	aclUser    = 0x02
	aclGroup   = 0x08
)

// MapACL returns an access control list with other numbers for the accounts and groups that it names. An entry whose
// number has none is left out, as is one that comes to say a second time who may what. What is no such list gives nil.
func MapACL(value []byte, account, group func(id int) (int, bool)) []byte {
	if len(value) < 4 || (len(value)-4)%aclEntry != 0 || binary.LittleEndian.Uint32(value) != aclVersion {
		return nil
	}
	mapped, said := append([]byte{}, value[:4]...), map[[2]int]bool{}
	for at := 4; at < len(value); at += aclEntry {
		entry := append([]byte{}, value[at:at+aclEntry]...)
		of := map[uint16]func(int) (int, bool){aclUser: account, aclGroup: group}[binary.LittleEndian.Uint16(entry)]
		if of != nil {
			id, ok := of(int(binary.LittleEndian.Uint32(entry[4:])))
			key := [2]int{int(entry[0]), id}
			if !ok || said[key] {
				continue
			}
			said[key] = true
			binary.LittleEndian.PutUint32(entry[4:], uint32(id)) // #nosec G115 -- numbers of accounts are 32 bits
		}
		mapped = append(mapped, entry...)
	}
	return mapped
}
