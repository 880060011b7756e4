package loader_test

import (
	"bytes"
	"debug/pe"
	"errors"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// Who signed Debian's own programs, against what openssl lists of the same bytes.
func TestWhoSignedRealPrograms(t *testing.T) {
	reference.Need(t, "openssl")
	listed := regexp.MustCompile(`CN ?= ?([^,\n]+)`)
	for path, vendor := range map[string]string{
		"/usr/lib/shim/shimx64.efi.signed":                   "Debian Secure Boot CA",
		"/usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed": "",
		"/usr/lib/grub/x86_64-efi-signed/gcdx64.efi.signed":  "",
		"/usr/lib/shim/fbx64.efi.signed":                     "",
	} {
		raw := reference.NeedFile(t, path)
		p := examined(t, raw)
		require.True(t, p.Signed, path)
		require.NoError(t, p.Signature.Err, path)
		file, err := pe.NewFile(bytes.NewReader(raw))
		require.NoError(t, err)
		table := file.OptionalHeader.(*pe.OptionalHeader64).DataDirectory[4]
		out := reference.Run(t, string(raw[table.VirtualAddress+8:]), "openssl", "pkcs7", "-inform", "DER", "-print_certs")
		known := listed.FindAllStringSubmatch(out, -1)
		require.NotEmpty(t, known, path)
		for _, name := range known {
			assert.Contains(t, p.Signature.Names, name[1], path)
		}
		assert.True(t, p.Levels, path)
		if vendor != "" {
			assert.Equal(t, []string{vendor}, p.Vendor.Names)
		}
	}
}

func examined(t *testing.T, raw []byte) loader.Program {
	t.Helper()
	p, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
	require.NoError(t, err)
	return p
}

// A signature tells who signed, from the signer up; a damaged one says so, and one that is not in
// evidence is neither.
func TestWhatASignatureTells(t *testing.T) {
	sound := diskmaker.Program{Signed: true, SignedBy: "Pier CA"}.Bytes()
	p := examined(t, sound)
	assert.Equal(t, []string{"Signer below Pier CA", "Pier CA"}, p.Signature.Names)
	assert.Equal(t, "Pier CA", p.Signature.By())
	assert.Empty(t, examined(t, diskmaker.Program{}.Bytes()).Signature.By())
	assert.Equal(t, []string{diskmaker.VendorAuthority}, examined(t, diskmaker.Program{Is: "shim"}.Bytes()).Vendor.Names)

	table := len(diskmaker.Program{}.Bytes())
	for name, change := range map[string]func(b []byte) []byte{
		"of zeros":        func(b []byte) []byte { clear(b[table:]); return b },
		"of another type": func(b []byte) []byte { b[table+6] = 1; return b },
		"cut short":       func(b []byte) []byte { return b[:len(b)-8] },
		"no sequence":     func(b []byte) []byte { b[table+8] = 0x31; return b },
		"nothing in it":   func(b []byte) []byte { b[table+8+1], b[table+8+2] = 0, 0; return b },
	} {
		p := examined(t, change(bytes.Clone(sound)))
		assert.True(t, p.Signed, name)
		assert.ErrorIs(t, p.Signature.Err, loader.ErrSignature, name)
		assert.Empty(t, p.Signature.Names, name)
	}

	p, err := loader.ExamineEFI(&lacking{bytes.NewReader(sound), int64(table)}, int64(len(sound)))
	require.NoError(t, err)
	assert.True(t, disk.IsNotCaptured(p.Signature.Err))
	assert.False(t, errors.Is(p.Signature.Err, loader.ErrSignature))
}

// lacking gives bytes up to a place.
type lacking struct {
	*bytes.Reader
	from int64
}

func (l *lacking) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > l.from {
		return 0, &disk.Spent{}
	}
	return l.Reader.ReadAt(p, off)
}

// A shim's vendor may give a list of certificates instead of one. UEFI Specification 2.10, section
// 32.4.1.
func TestAVendorsList(t *testing.T) {
	shim := examined(t, diskmaker.Program{Is: "shim", Vendors: []string{"Pier CA", "Quay CA"}}.Bytes())
	assert.Equal(t, []string{"Pier CA", "Quay CA"}, shim.Vendor.Names)
	assert.NoError(t, shim.Vendor.Err)
}
