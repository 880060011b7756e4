package disk_test

import (
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
)

// UEFI Specification 2.10, section 5.3: the CRC is the IEEE 802.3 one. Its
// check value for "123456789" is CBF43926 (the CRC catalogue's CRC-32/ISO-HDLC).
func TestCRCIsTheOneOfTheSpecification(t *testing.T) {
	assert.EqualValues(t, uint32(0xCBF43926), crc32.ChecksumIEEE([]byte("123456789")))
}

// UEFI Specification 2.10, table 5.7, as printed there.
func TestTypeGUIDsOfTheSpecification(t *testing.T) {
	assert.Equal(t, "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", disk.TypeESP.String())
	assert.Equal(t, [16]byte{0x28, 0x73, 0x2A, 0xC1, 0x1F, 0xF8, 0xD2, 0x11, 0xBA, 0x4B, 0x00, 0xA0, 0xC9, 0x3E, 0xC9,
		0x3B}, [16]byte(disk.TypeESP),
		"appendix A: the first three fields are little-endian")
	assert.Equal(t, "MBR partition scheme", disk.GPTType(disk.MustGUID("024DEE41-33E7-11D3-9D69-0008C781F39F")).Name)
	// GRUB manual, "BIOS installation": the bytes spell a text.
	assert.Equal(t, "Hah!IdontNeedEFI", string(disk.TypeBIOSBoot[:]))
}

func TestUnknownTypesSayTheirNumber(t *testing.T) {
	assert.Equal(t, "Type 0xA5", disk.MBRType(0xA5).Name)
	assert.Contains(t, disk.GPTType(disk.MustGUID("01234567-0123-0123-0123-0123456789AB")).Name, "01234567-")
}

// IDEMA Document LBA1-03; the two worked figures are in wide print on labels.
func TestAdvertisedSectors(t *testing.T) {
	assert.EqualValues(t, 976_773_168, disk.AdvertisedSectors(500))
	assert.EqualValues(t, 1_953_525_168, disk.AdvertisedSectors(1000))
	assert.EqualValues(t, 97_696_368, disk.AdvertisedSectors(50))
}

// Common practice, no source: what a binary-counting screen shows for a label.
func TestSizesAsLabelAndScreenShowThem(t *testing.T) {
	for _, c := range []struct {
		bytes         int64
		label, binary string
	}{
		{disk.AdvertisedSectors(250) * 512, "250 GB", "232.9 GiB"},
		{disk.AdvertisedSectors(320) * 512, "320 GB", "298.1 GiB"},
		{disk.AdvertisedSectors(500) * 512, "500 GB", "465.8 GiB"},
		{disk.AdvertisedSectors(1000) * 512, "1 TB", "931.5 GiB"},
		{2_048_000_000_000, "2.05 TB", "1.86 TiB"},
		{100 << 20, "105 MB", "100 MiB"},
		{16 << 20, "17 MB", "16 MiB"},
		{1_500_000_000, "1.5 GB", "1.4 GiB"},
		{512, "512 B", "512 B"},
		{0, "0 B", "0 B"},
	} {
		assert.Equal(t, c.label, disk.Label(c.bytes))
		assert.Equal(t, c.binary, disk.Binary(c.bytes))
	}
	assert.Equal(t, "500 GB · 465.8 GiB", disk.Both(500_107_862_016))
}

func TestParseGUID(t *testing.T) {
	g, err := disk.ParseGUID("{c12a7328-f81f-11d2-ba4b-00a0c93ec93b}")
	require.NoError(t, err)
	assert.Equal(t, disk.TypeESP, g)
	for _, bad := range []string{"", "C12A7328", "C12A7328-F81F-11D2-BA4B-00A0C93EC93", "C12A7328-F81F-11D2-BA4B-00A0C93EC9ZZ", "C12A7328F81F-11D2-BA4B-00A0C93EC93B-1"} {
		_, err := disk.ParseGUID(bad)
		assert.ErrorContains(t, err, "8-4-4-4-12", bad)
	}
}

func TestNewRefusesImpossibleDisks(t *testing.T) {
	_, err := disk.New(nil, 1<<20, 520)
	assert.ErrorContains(t, err, "expected 512 or 4096")
	_, err = disk.New(nil, 100, 512)
	assert.ErrorContains(t, err, "at least one sector")
}
