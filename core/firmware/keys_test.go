package firmware_test

import (
	"crypto/ed25519"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/firmware"
)

// listOf is a signature list with entries of one kind. UEFI Specification 2.10, section 32.4.1.
func listOf(kind string, entries ...[]byte) []byte {
	guid := disk.MustGUID(kind)
	b := append(guid[:], make([]byte, 12)...)
	for _, e := range entries {
		b = append(append(b, make([]byte, 16)...), e...)
		binary.LittleEndian.PutUint32(b[24:], uint32(16+len(e)))
	}
	binary.LittleEndian.PutUint32(b[16:], uint32(len(b)))
	return b
}

const (
	ofCertificates = "A5C059A1-94E4-4AA7-87B5-AB155C2BF072"
	ofSums         = "C1C41626-504C-4092-ACA9-41F936934328" // EFI_CERT_SHA256_GUID
)

func certificateOf(t testing.TB, name pkix.Name) []byte {
	key := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: name}
	der, err := x509.CreateCertificate(nil, c, c, key.Public(), key)
	require.NoError(t, err)
	return der
}

func TestWhomTheFirmwareTrusts(t *testing.T) {
	pier := listOf(ofCertificates, certificateOf(t, pkix.Name{CommonName: "Pier CA"}))
	quay := listOf(ofCertificates, certificateOf(t, pkix.Name{Organization: []string{"Quay\x00 works"}}))
	sums := listOf(ofSums, make([]byte, 32), make([]byte, 32))
	for name, c := range map[string]struct {
		raw   []byte
		names []string
		more  bool
	}{
		"nobody":                 {nil, nil, false},
		"two":                    {append(append([]byte{}, pier...), quay...), []string{"Pier CA", "Quay works"}, false},
		"sums of programs, too":  {append(append([]byte{}, sums...), pier...), []string{"Pier CA"}, true},
		"cut within the second":  {append(append([]byte{}, pier...), quay[:40]...), []string{"Pier CA"}, true},
		"cut within a head":      {append(append([]byte{}, pier...), 1, 2, 3), []string{"Pier CA"}, true},
		"a damaged certificate":  {listOf(ofCertificates, []byte("none")), nil, true},
		"a list without entries": {listOf(ofCertificates), nil, true},
	} {
		got := firmware.DecodeTrusted(c.raw)
		assert.Equal(t, c.names, got.Names, name)
		assert.Equal(t, c.more, got.More, name)
	}

	attributes := []byte{0x27, 0, 0, 0}
	e, err := firmware.DecodeVariables(map[string][]byte{
		"db-d719b2cb-3d3a-4596-a3bc-dad00e67656f":        append(attributes, pier...),
		"MokListRT-605dab50-e046-4300-abb6-3dd810dd8b23": append(attributes, quay...),
		"dbx-d719b2cb-3d3a-4596-a3bc-dad00e67656f":       append(attributes, pier...),
	})
	require.NoError(t, err)
	require.NotNil(t, e.Keys)
	assert.Equal(t, []string{"Pier CA"}, e.Keys.Firmware.Names)
	assert.Equal(t, []string{"Quay works"}, e.Keys.Owner.Names)
	e, err = firmware.DecodeVariables(map[string][]byte{"Timeout-8be4df61-93ca-11d2-aa0d-00e098032b8c": attributes})
	require.NoError(t, err)
	assert.Nil(t, e.Keys, "not in evidence")
}

func FuzzDecodeTrusted(f *testing.F) {
	f.Add(listOf(ofCertificates, certificateOf(f, pkix.Name{CommonName: "Pier CA"})))
	f.Add(listOf(ofSums, make([]byte, 32)))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, name := range firmware.DecodeTrusted(raw).Names {
			assert.LessOrEqual(t, len([]rune(name)), 80)
		}
	})
}
