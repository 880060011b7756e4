package diskmaker

import (
	"encoding/binary"
	"fmt"
)

// luksHeader is the start of an encrypted volume, with nothing that opens it. LUKS2 On-Disk
// Format Specification 1.1.1, section 2.1, "Binary Header".
func luksHeader(uuid [16]byte) []byte {
	b := make([]byte, 4096)
	copy(b, "LUKS\xBA\xBE")
	binary.BigEndian.PutUint16(b[6:], 2)
	binary.BigEndian.PutUint64(b[8:], 16384)
	copy(b[72:], "sha256")
	copy(b[168:208], fmt.Sprintf("%x-%x-%x-%x-%x", uuid[:4], uuid[4:6], uuid[6:8], uuid[8:10], uuid[10:]))
	return b
}
