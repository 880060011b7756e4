package diskmaker

import (
	"cmp"
	"crypto/ed25519"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/binary"
	"math/big"
	"time"

	"latchkey/core/disk"
	"latchkey/core/loader"
)

// The authorities that generated programs name where nothing else is said: the first firmware
// trusts as it is delivered, the other is the vendor of the generated shim.
const (
	UsualAuthority  = "Microsoft Corporation UEFI CA 2011"
	VendorAuthority = "Ferry Secure Boot CA"
)

// authority is who vouches for the program.
func (p Program) authority() string {
	usual := map[string]string{"windows": loader.WindowsAuthority, "grub": VendorAuthority, "systemd-boot": VendorAuthority}
	return cmp.Or(p.SignedBy, usual[p.Is], UsualAuthority)
}

// certificate is one of a signer below an authority. Its key is the same every time.
func certificate(subject, authority string) []byte {
	key := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	name := func(of string) pkix.Name { return pkix.Name{CommonName: of} }
	from := time.Date(2021, 1, 1, 0, 0, 0, 0, time.UTC)
	c := x509.Certificate{SerialNumber: big.NewInt(2021), Subject: name(subject),
		NotBefore: from, NotAfter: from.AddDate(15, 0, 0)}
	above := c
	above.Subject = name(authority)
	der, err := x509.CreateCertificate(nil, &c, &above, key.Public(), key)
	if err != nil {
		panic(err)
	}
	return der
}

// certificateTable is a program's certificate table with one signature: it has the form of one, and
// no key that anybody has signed it. Windows Authenticode Portable Executable Signature Format; RFC 2315.
func certificateTable(authority string) []byte {
	marshal := func(v any) []byte {
		b, err := asn1.Marshal(v)
		if err != nil {
			panic(err)
		}
		return b
	}
	wrapped := func(class, tag int, inner []byte) asn1.RawValue {
		return asn1.RawValue{Class: class, Tag: tag, IsCompound: true, Bytes: inner}
	}
	der := certificate("Signer below "+authority, authority)
	c, err := x509.ParseCertificate(der)
	if err != nil {
		panic(err)
	}
	sha256 := pkix.AlgorithmIdentifier{Algorithm: asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 2, 1}}
	from := struct {
		Issuer asn1.RawValue
		Serial *big.Int
	}{asn1.RawValue{FullBytes: c.RawIssuer}, c.SerialNumber}
	signer := marshal(struct {
		Version   int
		From      any
		Digest    pkix.AlgorithmIdentifier
		Algorithm pkix.AlgorithmIdentifier
		Signature []byte
	}{1, from, sha256, pkix.AlgorithmIdentifier{Algorithm: asn1.ObjectIdentifier{1, 3, 101, 112}},
		make([]byte, ed25519.SignatureSize)})
	spcIndirectData := asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 2, 1, 4}
	content := marshal(struct{ Type asn1.ObjectIdentifier }{spcIndirectData})
	data := marshal(struct {
		Version                                 int
		Digests, Content, Certificates, Signers asn1.RawValue
	}{1, wrapped(0, asn1.TagSet, marshal(sha256)), asn1.RawValue{FullBytes: content}, wrapped(2, 0, der),
		wrapped(0, asn1.TagSet, signer)})
	signed := marshal(struct {
		Type    asn1.ObjectIdentifier
		Content asn1.RawValue
	}{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}, wrapped(2, 0, data)})
	const head = 8
	b := make([]byte, head, head+len(signed)+head)
	b = append(b, signed...)
	b = append(b, make([]byte, -len(b)&7)...)
	binary.LittleEndian.PutUint32(b, uint32(len(b)))
	binary.LittleEndian.PutUint16(b[4:], 0x0200)
	binary.LittleEndian.PutUint16(b[6:], 0x0002) // WIN_CERT_TYPE_PKCS_SIGNED_DATA
	return b
}

// vendorCertificates is what a shim holds of its vendor: a certificate, or a list of several behind
// each other. The shim project's cert.S; UEFI Specification 2.10, section 32.4.1.
func vendorCertificates(vendors []string) []byte {
	const head, listHead, owner = 16, 28, 16
	le := binary.LittleEndian
	var held []byte
	switch len(vendors) {
	case 0:
		held = certificate(VendorAuthority, VendorAuthority)
	case 1:
		held = certificate(vendors[0], vendors[0])
	default:
		for _, name := range vendors {
			der := certificate(name, name)
			kind := disk.MustGUID("A5C059A1-94E4-4AA7-87B5-AB155C2BF072") // EFI_CERT_X509_GUID
			list := append(kind[:], make([]byte, listHead+owner-len(kind), listHead+owner+len(der))...)
			list = append(list, der...)
			le.PutUint32(list[16:], uint32(len(list)))
			le.PutUint32(list[24:], uint32(owner+len(der)))
			held = append(held, list...)
		}
	}
	b := make([]byte, head, head+len(held))
	le.PutUint32(b, uint32(len(held)))
	le.PutUint32(b[8:], head)
	le.PutUint32(b[12:], uint32(head+len(held)))
	return append(b, held...)
}
