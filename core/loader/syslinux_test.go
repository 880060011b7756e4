package loader

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stage is a second stage with its areas and a right checksum, as the installer leaves one:
// Syslinux 6.04, libinstaller/syslxint.h.
func stage(banner, folder string) []byte {
	b := make([]byte, 4096)
	le := binary.LittleEndian
	copy(b, "\r\n"+banner)
	le.PutUint32(b[syslinuxPatchAt:], syslinuxMagic)
	le.PutUint32(b[syslinuxWordsAt:], 1024)
	le.PutUint16(b[syslinuxOffsetAt:], 2048)
	le.PutUint16(b[2048+syslinuxFolderAt:], 3000)
	le.PutUint16(b[2048+syslinuxFolderAt+2:], 256)
	copy(b[3000:], folder)
	sum := uint32(0)
	for i := range 1024 {
		sum += le.Uint32(b[4*i:])
	}
	le.PutUint32(b[syslinuxWordsAt+4:], syslinuxMagic-sum)
	return b
}

func TestReadSyslinux(t *testing.T) {
	t.Parallel()
	s, ok := ReadSyslinux(stage("SYSLINUX 6.04 \x00", "/boot/extlinux"))
	require.True(t, ok)
	assert.Equal(t, Syslinux{Version: 6, Folder: "/boot/extlinux", Sound: true}, s)
	s, ok = ReadSyslinux(stage("EXTLINUX 4.05", ""))
	require.True(t, ok)
	assert.Equal(t, Syslinux{Version: 4, Sound: true}, s)

	damaged := stage("SYSLINUX 6.04 \x00", "/x")
	damaged[1500] ^= 1
	s, ok = ReadSyslinux(damaged)
	assert.True(t, ok)
	assert.False(t, s.Sound)
	long := stage("SYSLINUX 6.04 \x00", "/x")
	binary.LittleEndian.PutUint32(long[syslinuxWordsAt:], 1025)
	s, _ = ReadSyslinux(long)
	assert.False(t, s.Sound, "a length beyond the file")
	outside := stage("SYSLINUX 6.04 \x00", "/x")
	binary.LittleEndian.PutUint16(outside[2048+syslinuxFolderAt:], 4000)
	s, _ = ReadSyslinux(outside)
	assert.Empty(t, s.Folder)
	for name, raw := range map[string][]byte{"nothing": nil, "too short": damaged[:511], "zeros": make([]byte, 4096),
		"too long": make([]byte, MaxSyslinuxStage+1)} {
		_, ok := ReadSyslinux(raw)
		assert.False(t, ok, name)
	}
}

// Syslinux 6.04, doc/syslinux.txt; what its menus start by themselves as it ran in SeaBIOS
// (package truth).
func TestParseSyslinux(t *testing.T) {
	t.Parallel()
	const labels = "LABEL one\n KERNEL a\n APPEND root=/dev/sda1 initrd=x,/y/z\nlabel two\n\tlinux ../b.0\n\tinitrd c\n"
	for name, c := range map[string]struct {
		text                string
		starts, kernel      string
		initrds             []string
		options, open, root string
		modules             []string
	}{
		"a default":            {"default one\n" + labels, "one", "/s/a", []string{"/s/x", "/y/z"}, "root=/dev/sda1 initrd=x,/y/z", "", "/dev/sda1", nil},
		"of another case":      {"DEFAULT TWO\n" + labels, "TWO", "/b.0", []string{"/s/c"}, "", "", "", nil},
		"the options of all":   {"append quiet\ndefault two\n" + labels, "two", "/b.0", []string{"/s/c"}, "quiet", "", "", nil},
		"none":                 {labels, "", "", nil, "", "", "", nil},
		"no label":             {"default /k root=/dev/sda2\nappend x\n" + labels, "/k root=/dev/sda2", "/k", nil, "root=/dev/sda2 x", "", "/dev/sda2", nil},
		"a bootstrap":          {"default l\nlabel l\n kernel k.0\n", "l", "/s/k.0", nil, "", "k.0 is no", "", nil},
		"a module":             {"default l\nlabel l\n com32 chain.c32\n append hd0\n", "l", "/s/chain.c32", nil, "hd0", "no kernel", "", nil},
		"a menu":               {"ui menu.c32\n" + labels, "one", "/s/a", []string{"/s/x", "/y/z"}, "root=/dev/sda1 initrd=x,/y/z", "", "/dev/sda1", []string{"/s/menu.c32", "/s/libutil.c32", "/s/libcom32.c32"}},
		"a menu as default":    {"default vesamenu.c32\n" + labels + " menu default\n", "two", "/b.0", []string{"/s/c"}, "", "", "", []string{"/s/vesamenu.c32", "/s/libutil.c32", "/s/libcom32.c32"}},
		"a timeout of its own": {"default one\nontimeout two\n" + labels, "one", "/s/a", []string{"/s/x", "/y/z"}, "root=/dev/sda1 initrd=x,/y/z", "timeout", "/dev/sda1", nil},
		"another file":         {"default one\ninclude more.cfg\n" + labels, "one", "/s/a", []string{"/s/x", "/y/z"}, "root=/dev/sda1 initrd=x,/y/z", "more.cfg", "/dev/sda1", nil},
		"options taken back":   {"append quiet\ndefault l\nlabel l\n kernel k\n append -\n", "l", "/s/k", nil, "", "", "", nil},
	} {
		m := ParseSyslinux([]byte(c.text), "/s")
		root := ""
		if m.Entry.Root != nil {
			root = m.Entry.Root.Value
		}
		assert.Equal(t, []any{c.starts, c.kernel, c.initrds, c.options, root, c.modules},
			[]any{m.Name, m.Entry.Linux, m.Entry.Initrds, m.Entry.Options, root, m.Modules}, name)
		assert.Equal(t, c.open == "", m.Open == "", "%s: %s", name, m.Open)
		assert.Contains(t, m.Open, c.open, name)
	}
}

func FuzzSyslinux(f *testing.F) {
	f.Add(stage("SYSLINUX 6.04 \x00", "/boot"))
	f.Add([]byte("ui menu.c32\nlabel a\n kernel b\n append root=UUID=x\n menu default\nlabel\ndefault\nmenu\n"))
	f.Fuzz(func(_ *testing.T, raw []byte) {
		ReadSyslinux(raw)
		ParseSyslinux(raw, "/s")
	})
}
