package volume_test

import (
	"encoding/binary"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// Volumes written by Debian's tools for each kind; blkid says what is expected.

func TestKindsThatAreRecognised(t *testing.T) {
	for _, c := range []struct {
		kind volume.Kind
		make func(t *testing.T, path string)
	}{
		{volume.KindSwap, func(t *testing.T, path string) { reference.Run(t, "", "mkswap", "-L", "swap 1", path) }},
		{volume.KindLUKS, func(t *testing.T, path string) {
			reference.Run(t, "secret", "cryptsetup", "luksFormat", "-q", "--type", "luks2", "--label", "vault", "--pbkdf",
				"pbkdf2", "--pbkdf-force-iterations", "1000", path, "-")
		}},
		{volume.KindLUKS, func(t *testing.T, path string) {
			reference.Run(t, "secret", "cryptsetup", "luksFormat", "-q", "--type", "luks1", "--pbkdf-force-iterations", "1000",
				path, "-")
		}},
		{volume.KindXFS, func(t *testing.T, path string) { reference.Run(t, "", "mkfs.xfs", "-q", "-L", "store", path) }},
		{volume.KindBtrfs, func(t *testing.T, path string) { reference.Run(t, "", "mkfs.btrfs", "-q", "-L", "pool", path) }},
		{volume.KindLVM, pvcreate},
		{volume.KindRAID, mdCreate},
		{volume.KindF2FS, func(t *testing.T, path string) { reference.Run(t, "", "mkfs.f2fs", "-q", path) }},
		{volume.KindJFS, func(t *testing.T, path string) { reference.Run(t, "", "mkfs.jfs", "-q", "-L", "store", path) }},
		{volume.KindReiser, func(t *testing.T, path string) {
			reference.Run(t, "", "mkfs.reiserfs", "-q", "-l", "store",
				path)
		}},
		{volume.KindBcache, func(t *testing.T, path string) { reference.Run(t, "", "make-bcache", "-B", path) }},
	} {
		t.Run(string(c.kind), func(t *testing.T) {
			path := reference.Image(t, 320<<20)
			c.make(t, path)
			v := examine(t, path, 512, 2048)
			assert.Equal(t, c.kind, v.Kind)
			assert.Equal(t, blkid(t, path, "UUID"), v.Serial)
			assert.NotEmpty(t, v.Serial)
			assert.Equal(t, label(t, path), v.Label)
			assert.NotEmpty(t, v.Regions(0))
		})
	}
}

// label is blkid's, which fails on a volume without one.
func label(t *testing.T, path string) string {
	t.Helper()
	out, _ := exec.Command("blkid", "-p", "-o", "value", "-s", "LABEL", path).Output()
	return strings.TrimSpace(string(out))
}

func pvcreate(t *testing.T, path string) {
	t.Helper()
	reference.Need(t, "pvcreate")
	loop := strings.TrimSpace(reference.Run(t, "", "losetup", "-f", "--show", path))
	defer reference.Run(t, "", "losetup", "-d", loop)
	reference.Run(t, "", "pvcreate", "-q", "-q", "--config", `devices{filter=["a|.*|"]}`, loop)
}

// mdCreate writes a superblock of the version 1.2 by the kernel's md_p.h, as
// creating an array wants a kernel that has the driver; blkid reads it.
func mdCreate(t *testing.T, path string) {
	t.Helper()
	le := binary.LittleEndian
	sb := make([]byte, 256+4)
	le.PutUint32(sb, 0xA92B4EFC)
	le.PutUint32(sb[4:], 1)
	copy(sb[16:], "\x4d\x1f\x0b\x6e\x91\x1a\x47\x5c\x8e\x0d\x3b\x0c\x99\x1f\x22\x71")
	copy(sb[32:], "kiosk:0")
	le.PutUint64(sb[128:], 2048)    // data_offset
	le.PutUint64(sb[136:], 600_000) // data_size
	le.PutUint64(sb[144:], 8)       // super_offset
	var sum uint64
	for i := 0; i < 256; i += 4 {
		sum += uint64(le.Uint32(sb[i:]))
	}
	le.PutUint32(sb[216:], uint32(sum&0xFFFFFFFF+sum>>32))
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	_, err = f.WriteAt(sb[:256], 4096)
	require.NoError(t, err)
}

// The Mac's kinds have no tool in Debian that writes them; the headers are laid
// out by the Apple File System Reference and Technical Note TN1150, and blkid,
// which knows both, says what is expected.
func TestKindsOfAMac(t *testing.T) {
	path := reference.Image(t, 64<<20)
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	be := binary.BigEndian
	h := make([]byte, 512)
	copy(h, "H+")
	be.PutUint16(h[2:], 4)
	be.PutUint32(h[40:], 4096)    // blockSize
	be.PutUint32(h[44:], 16384)   // totalBlocks
	be.PutUint64(h[104:], 0x2C1A) // finderInfo[6,7]
	_, err = f.WriteAt(h, 1024)
	require.NoError(t, err)
	v := examine(t, path, 512, 2048)
	assert.Equal(t, volume.KindHFS, v.Kind)
	assert.Equal(t, "0000000000002C1A", v.Serial)

	_, err = f.WriteAt(make([]byte, 4096), 0)
	require.NoError(t, err)
	le := binary.LittleEndian
	b := make([]byte, 4096)
	le.PutUint64(b[8:], 1)           // o_oid
	le.PutUint64(b[16:], 1)          // o_xid
	le.PutUint32(b[24:], 0x80000001) // o_type
	copy(b[32:], "NXSB")
	le.PutUint32(b[36:], 4096)
	le.PutUint64(b[40:], 16384)
	copy(b[72:], "\x6A\x51\x02\xB7\x33\x9E\x4C\x0D\xA0\x11\x7F\x2E\x44\x58\x9C\xD3")
	le.PutUint64(b, fletcher64(b[8:]))
	_, err = f.WriteAt(b, 0)
	require.NoError(t, err)
	v = examine(t, path, 512, 2048)
	assert.Equal(t, volume.KindAPFS, v.Kind)
	assert.Equal(t, blkid(t, path, "UUID"), strings.ToLower(v.Serial))
}

// fletcher64 is the checksum of the Apple File System Reference, "Object".
func fletcher64(b []byte) uint64 {
	var s1, s2 uint64
	for i := 0; i < len(b); i += 4 {
		s1 = (s1 + uint64(binary.LittleEndian.Uint32(b[i:]))) % 0xFFFFFFFF
		s2 = (s2 + s1) % 0xFFFFFFFF
	}
	c1 := 0xFFFFFFFF - (s1+s2)%0xFFFFFFFF
	c2 := 0xFFFFFFFF - (s1+c1)%0xFFFFFFFF
	return c2<<32 | c1
}
