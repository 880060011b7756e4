package loader

import (
	"bytes"
	"cmp"
	"crypto/x509"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/big"

	"latchkey/core/disk"
	"latchkey/core/firmware"
)

// Signature says who vouches for a program: the bytes of its certificate table, read by their
// names. Whether the signature itself is right is not computed. PE Format, "The Attribute Certificate
// Table"; Windows Authenticode Portable Executable Signature Format; RFC 2315.
type Signature struct {
	// Names are those of who signed it, and of the authorities above, from the signer up, of all its
	// signatures.
	Names []string
	Err   error // why they could not be read; it is ErrSignature where they are not what they are to be
}

// ErrSignature is an error of a signature whose bytes are there, and are none.
var ErrSignature = errors.New("the signature is damaged")

func damaged(format string, values ...any) error {
	return fmt.Errorf("%w: %s", ErrSignature, fmt.Sprintf(format, values...))
}

// By is the highest of the authorities that are named, "" for none.
func (s Signature) By() string {
	if len(s.Names) == 0 {
		return ""
	}
	return s.Names[len(s.Names)-1]
}

// WindowsAuthority is who vouches for the Windows boot manager of its own installation. Microsoft,
// "Windows Secure Boot Key Creation and Management Guidance", section 1.3.4.2.
const WindowsAuthority = "Microsoft Windows Production PCA 2011"

// Bounds of what is read to tell who vouches for a program: bytes, and certificates
// above each other.
const (
	maxCertificates = 128 << 10
	maxAbove        = 8
)

// WIN_CERTIFICATE: the length of its head, the offset of its type, and the type of one that signs a
// program.
const (
	certificateHead     = 8
	certificateTypeAt   = 6
	certificateOfSigned = 2 // WIN_CERT_TYPE_PKCS_SIGNED_DATA
)

// readSignature reads the certificate table of a file of size bytes.
func readSignature(r io.ReaderAt, at, length, size int64) (s Signature) {
	if at <= 0 || at+length > size {
		return Signature{Err: damaged("its certificate table ends at byte %d, the file at %d", at+length, size)}
	}
	if length > maxCertificates {
		return Signature{Err: &disk.Spent{}}
	}
	table := make([]byte, length)
	if _, err := r.ReadAt(table, at); err != nil && !errors.Is(err, io.EOF) {
		return Signature{Err: err}
	}
	le := binary.LittleEndian
	for len(table) >= certificateHead {
		n := int(le.Uint32(table))
		if n < certificateHead || n > len(table) {
			break
		}
		if le.Uint16(table[certificateTypeAt:]) == certificateOfSigned {
			names, err := signers(table[certificateHead:n])
			s.Names, s.Err = append(s.Names, names...), cmp.Or(s.Err, err)
		}
		table = table[min((n+7)&^7, len(table)):]
	}
	switch {
	case s.Names != nil: // one that can be read is enough
		s.Err = nil
	case s.Err == nil:
		s.Err = damaged("its certificate table holds none")
	}
	return s
}

// The part of signed data that tells who signed. RFC 2315, sections 7, 9.1 and 9.2.
type contentInfo struct {
	Type    asn1.ObjectIdentifier
	Content asn1.RawValue `asn1:"explicit,optional,tag:0"`
}

type signedData struct {
	Version      int
	Digests      asn1.RawValue
	Content      asn1.RawValue
	Certificates rawCertificates `asn1:"optional,tag:0"`
	Revoked      asn1.RawValue   `asn1:"optional,tag:1"`
	Signers      []signerInfo    `asn1:"set"`
}

type rawCertificates struct{ Raw asn1.RawContent }

type signerInfo struct {
	Version int
	From    struct {
		Issuer asn1.RawValue
		Serial *big.Int
	}
}

// signers are the names of who signed, and of those above them.
func signers(raw []byte) ([]string, error) {
	var outer contentInfo
	var inner signedData
	if _, err := asn1.Unmarshal(raw, &outer); err != nil {
		return nil, damaged("%v", err)
	}
	if _, err := asn1.Unmarshal(outer.Content.Bytes, &inner); err != nil {
		return nil, damaged("%v", err)
	}
	var bag []*x509.Certificate
	var held asn1.RawValue
	if _, err := asn1.Unmarshal(inner.Certificates.Raw, &held); err == nil {
		bag, _ = x509.ParseCertificates(held.Bytes) // without them the nearest authority's name is left
	}
	var names []string
	for _, s := range inner.Signers {
		above := s.From.Issuer.FullBytes
		for _, c := range bag {
			if bytes.Equal(c.RawIssuer, above) && c.SerialNumber.Cmp(s.From.Serial) == 0 {
				names = append(names, firmware.CommonName(c.RawSubject))
			}
		}
		names = append(names, upFrom(above, bag)...)
	}
	if len(names) == 0 {
		return nil, damaged("it names nobody")
	}
	return names, nil
}

// upFrom are the names of an authority and of those above it, as far as certificates tell.
func upFrom(issuer []byte, bag []*x509.Certificate) []string {
	names := []string{firmware.CommonName(issuer)}
	for range maxAbove {
		var next []byte
		for _, c := range bag {
			if bytes.Equal(c.RawSubject, issuer) && !bytes.Equal(c.RawIssuer, issuer) {
				next = c.RawIssuer
			}
		}
		if next == nil {
			return names
		}
		issuer = next
		names = append(names, firmware.CommonName(next))
	}
	return names
}

// vendorSection is where a shim keeps the certificates of its vendor, behind four numbers: the
// lengths of those that it trusts and of those that it refuses, and where they lie. The shim
// project's cert.S.
const (
	vendorSection = ".vendor_cert"
	vendorHead    = 16
)

// readVendor are the names of whom a shim trusts by itself.
func readVendor(raw []byte) (s Signature) {
	le := binary.LittleEndian
	if len(raw) < vendorHead {
		return Signature{Err: damaged("its vendor's certificate is cut short")}
	}
	length, at := int64(le.Uint32(raw)), int64(le.Uint32(raw[8:]))
	if at < vendorHead || at+length > int64(len(raw)) {
		return Signature{Err: damaged("its vendor's certificate is cut short")}
	}
	held := raw[at : at+length]
	if c, err := x509.ParseCertificate(held); err == nil {
		return Signature{Names: []string{firmware.CommonName(c.RawSubject)}}
	}
	trusted := firmware.DecodeTrusted(held)
	if s.Names = trusted.Names; trusted.More {
		s.Err = damaged("not all of its vendor's list is certificates")
	}
	return s
}
