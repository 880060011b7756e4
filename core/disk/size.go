package disk

import (
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
