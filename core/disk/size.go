package disk

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Label returns a size as a drive's label gives it, in decimal units:
// "500 GB", "1 TB", "105 MB".
func Label(bytes int64) string {
	return scaled(bytes, 1000, []string{"B", "kB", "MB", "GB", "TB", "PB"}, 0, 2)
}

// Binary returns a size as an operating system's screen counts it, in binary
// units: "465.8 GiB", "1.86 TiB".
func Binary(bytes int64) string {
	return scaled(bytes, 1024, []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB"}, 1, 2)
}

// Both returns a size as the technician meets it on the label and on the
// screen: "500 GB · 465.8 GiB".
func Both(bytes int64) string { return Label(bytes) + " · " + Binary(bytes) }

// scaled prints small and middle units with the first number of decimals and
// the largest ones (from the fifth unit on) with the second; below ten a
// further decimal keeps 1.5 GB from being shown as 2 GB.
func scaled(bytes int64, base float64, units []string, decimals, large int) string {
	v, u := float64(bytes), 0
	for v >= base && u < len(units)-1 {
		v, u = v/base, u+1
	}
	switch {
	case u == 0:
		decimals = 0
	case u >= 4:
		decimals = large
	case v < 10:
		decimals++
	}
	s := strconv.FormatFloat(v, 'f', decimals, 64)
	if strings.Contains(s, ".") {
		s = strings.TrimRight(strings.TrimRight(s, "0"), ".")
	}
	return s + " " + units[u]
}

// AdvertisedSectors returns the number of 512-byte sectors of a drive sold as
// gb decimal gigabytes, for gb of 50 and more. IDEMA LBA1-03.
func AdvertisedSectors(gb int64) int64 { return 97_696_368 + 1_953_504*(gb-50) }

// Units says how a size without an "i" in its unit is counted.
type Units int

// The ways of counting: as a drive's label does, as the systems' own listings do,
// and as a person who reads one or the other aloud.
const (
	DecimalUnits Units = iota
	BinaryUnits
	EitherUnits
)

// Its words are those of systems in other languages, too: 238 G octets, 465 Gбайт.
var sizeForm = regexp.MustCompile(`^([\d., \x{00A0}\x{202F}']*\d)\s*([kmgtpeкмгтп]?)([iи]?)(b|o|б|\s?bytes?|\s?octets?|\s?байта?)?$`)

// latin are the prefixes of units that are written in Cyrillic.
var latin = strings.NewReplacer("к", "k", "м", "m", "г", "g", "т", "t", "п", "p", "и", "i")

// ParseSize reads a size as labels, screens and listings give it: "500107862016",
// "465.8 GiB", "232 GB", "465,8 G". It is rounded when it has a unit. With
// EitherUnits, a whole number of GB that an advertised capacity shows as on a
// screen that counts in binary units is taken for that capacity.
func ParseSize(s string, units Units) (bytes int64, rounded bool, err error) {
	m := sizeForm.FindStringSubmatch(strings.ToLower(strings.TrimSpace(s)))
	if m == nil {
		return 0, false, fmt.Errorf("%q is no size: expected a number of bytes, or one with a unit such as 232 GB or 465.8 GiB", s)
	}
	m[2], m[3] = latin.Replace(m[2]), latin.Replace(m[3])
	digits := plainNumber(m[1], m[2] == "")
	if m[2] == "" {
		n, err := strconv.ParseInt(digits, 10, 64)
		if err != nil || n > MaxSize {
			return 0, false, fmt.Errorf("%q is more than a drive can hold: expected at most %s", s, Binary(MaxSize))
		}
		return n, false, nil
	}
	v, err := strconv.ParseFloat(digits, 64)
	if err != nil || v < 0 {
		return 0, false, fmt.Errorf("%q is no size: expected a number before its unit", s)
	}
	base := 1000.0
	if m[3] == "i" || units == BinaryUnits {
		base = 1024
	}
	power := 1 + strings.Index("kmgtpe", m[2])
	if units == EitherUnits && m[3] == "" {
		if n, ok := shownAs(v, m[2]); ok {
			return n, true, nil
		}
	}
	for range power {
		v *= base
	}
	if v > MaxSize {
		return 0, true, fmt.Errorf("%q is more than a drive can hold: expected at most %s", s, Binary(MaxSize))
	}
	return int64(v), true, nil
}

// plainNumber settles what points and commas mean. In a number of bytes they only
// group; else the last of them, unless three digits follow a first group, is the
// decimal mark.
func plainNumber(s string, whole bool) string {
	s = strings.NewReplacer(" ", "", "\u00a0", "", "\u202f", "", "'", "").Replace(s)
	last := strings.LastIndexAny(s, ".,")
	if last < 0 {
		return s
	}
	strip := strings.NewReplacer(".", "", ",", "")
	if whole || strings.ContainsAny(s[:last], ".,") && s[last] == s[strings.IndexAny(s, ".,")] {
		return strip.Replace(s)
	}
	return strip.Replace(s[:last]) + "." + s[last+1:]
}

// sold are capacities that drives are sold with, in decimal gigabytes. Common
// practice, no source.
var sold = []int64{60, 64, 80, 120, 128, 160, 240, 250, 256, 320, 480, 500, 512, 640, 750, 960, 1000, 1024, 1500,
	1920, 2000, 2048, 3000, 3840, 4000, 4096, 5000, 6000, 7680, 8000, 10000, 12000, 14000, 16000, 18000, 20000}

// shownAs finds the capacity that a screen shows as a whole number of binary
// units under a decimal name.
func shownAs(v float64, unit string) (int64, bool) {
	if unit != "g" || v != float64(int64(v)) {
		return 0, false
	}
	for _, gb := range sold {
		if gb == int64(v) {
			return 0, false // a label's own figure
		}
	}
	for _, gb := range sold {
		if bytes := AdvertisedSectors(gb) * 512; bytes>>30 == int64(v) {
			return bytes, true
		}
	}
	return 0, false
}
