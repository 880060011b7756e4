package diskmaker

import (
	"fmt"
	"strings"
)

// RAMDisk is an initial RAM disk that holds nothing but its end: a cpio archive of the new form. The
// kernel's driver-api/early-userspace/buffer-format.
func RAMDisk() []byte {
	const end = "TRAILER!!!\x00"
	head := fmt.Sprintf("070701%s%08X%08X", strings.Repeat("00000000", 11), len(end), 0)
	b := make([]byte, 512)
	copy(b, head+end)
	return b
}
