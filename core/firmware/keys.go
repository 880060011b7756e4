package firmware

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"slices"
	"strings"
	"unicode"

	"latchkey/core/disk"
)

// Keys are whom firmware takes signatures from while secure boot is on: what its variable db says,
// and, in a system that a shim started, the keys that the machine's owner enrolled there.
type Keys struct {
	Firmware, Owner *Trusted // nil where the variable is not in evidence
}

// Trusted is a list of whom to trust. UEFI Specification 2.10, section 32.4.1.
type Trusted struct {
	Names []string // of certificates
	// More is set where it holds what is not a certificate, such as the sums of single programs, or
	// could not be read to its end.
	More bool
}

// TrustVariables are the names and vendors of the variables that tell whom the machine trusts. UEFI
// Specification 2.10, section 32.6.1; the shim project's MokVars.txt.
var TrustVariables = [][2]string{{"db", "d719b2cb-3d3a-4596-a3bc-dad00e67656f"},
	{"MokListRT", "605dab50-e046-4300-abb6-3dd810dd8b23"}}

// trustVariable reports which of them a file, in small letters, is named after as Linux' efivarfs names
// it; -1 for none.
func trustVariable(file string) int {
	return slices.IndexFunc(TrustVariables, func(v [2]string) bool { return file == strings.ToLower(v[0])+"-"+v[1] })
}

// take takes a variable over, by its file's name in small letters.
func (k *Keys) take(file string, raw []byte) {
	t := DecodeTrusted(raw)
	*[]**Trusted{&k.Firmware, &k.Owner}[trustVariable(file)] = &t
}

// with is the keys with what another piece of evidence tells besides; nil where neither tells any.
func (k *Keys) with(other *Keys) *Keys {
	switch {
	case other == nil:
		return k
	case k == nil:
		return other
	}
	return &Keys{cmp.Or(k.Firmware, other.Firmware), cmp.Or(k.Owner, other.Owner)}
}

// EFI_SIGNATURE_LIST: its head, and the owner before each signature.
const (
	listHead  = 28
	listOwner = 16
)

// ofCertificate is EFI_CERT_X509_GUID.
var ofCertificate = disk.MustGUID("A5C059A1-94E4-4AA7-87B5-AB155C2BF072")

// DecodeTrusted reads signature lists behind each other.
func DecodeTrusted(b []byte) (t Trusted) {
	le := binary.LittleEndian
	for len(b) > 0 {
		if len(b) < listHead {
			t.More = true
			break
		}
		length, head, size := int64(le.Uint32(b[16:])), int64(le.Uint32(b[20:])), int64(le.Uint32(b[24:]))
		if length < listHead+head || length > int64(len(b)) || size <= listOwner {
			t.More = true
			break
		}
		for at := listHead + head; at+size <= length; at += size {
			c, err := x509.ParseCertificate(b[at+listOwner : at+size])
			if err != nil || !bytes.Equal(b[:16], ofCertificate[:]) {
				t.More = true
				continue
			}
			t.Names = append(t.Names, CommonName(c.RawSubject))
		}
		b = b[length:]
	}
	return t
}

// maxName bounds a name that is shown, in letters.
const maxName = 80

// CommonName is the common name of a distinguished name in DER, else its organization, as far as it
// can be shown. RFC 5280, section 4.1.2.4.
func CommonName(der []byte) string {
	var parts pkix.RDNSequence
	var name pkix.Name
	if _, err := asn1.Unmarshal(der, &parts); err == nil {
		name.FillFromRDNSequence(&parts)
	}
	text := strings.Map(func(c rune) rune {
		if !unicode.IsPrint(c) {
			return -1
		}
		return c
	}, cmp.Or(name.CommonName, strings.Join(append(name.OrganizationalUnit, name.Organization...), ", ")))
	if letters := []rune(text); len(letters) > maxName {
		text = string(letters[:maxName])
	}
	return cmp.Or(text, "a name that cannot be read")
}
