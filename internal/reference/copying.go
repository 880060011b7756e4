package reference

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
)

// Copying makes a copy of a disk in a file with Debian's own tools, in the ways in which
// disks are copied. The file that is copied to is there, empty, and has its size.
type Copying struct {
	T        testing.TB
	From, To string
	// Parts are the original's partitions.
	Parts []Part
}

// Part is a partition, in sectors of 512 bytes, with its type as sfdisk writes it.
type Part struct {
	Start, Length uint64
	Type          string
}

func (c Copying) dd(args ...string) {
	Run(c.T, "", "dd", append([]string{"status=none", "conv=notrunc,sparse", "if=" + c.From, "of=" + c.To}, args...)...)
}

// partition copies the sectors of a partition to another place.
func (c Copying) partition(p Part, to uint64) {
	c.dd("bs=1M", "iflag=skip_bytes,count_bytes", "oflag=seek_bytes", fmt.Sprint("skip=", p.Start*512), fmt.Sprint("seek=", to*512),
		fmt.Sprint("count=", p.Length*512))
}

var ofTheOldDisk = regexp.MustCompile(`(?m)^(?:last-lba|first-lba|device):.*\n`)

// Whole copies every sector.
func (c Copying) Whole() { c.dd("bs=1M") }

// Blocks copies boot record, gap and partitions under a table of the same content that is
// written for the new size.
func (c Copying) Blocks() {
	c.dd("bs=440", "count=1")
	dump := ofTheOldDisk.ReplaceAllString(Run(c.T, "", "sfdisk", "--dump", c.From), "")
	Run(c.T, strings.ReplaceAll(dump, c.From, c.To), "sfdisk", "--quiet", "--no-reread", c.To)
	if first := c.Parts[0].Start; first > 34 {
		c.dd("bs=512", "skip=34", "seek=34", fmt.Sprint("count=", first-34))
	}
	for _, p := range c.Parts {
		c.partition(p, p.Start)
	}
}

// BlocksWithNewIdentifiers is Blocks, with new identifiers of disk and partitions.
func (c Copying) BlocksWithNewIdentifiers() {
	c.Blocks()
	if strings.Contains(Run(c.T, "", "sfdisk", "--dump", c.To), "label: gpt") {
		Run(c.T, "", "sgdisk", "-G", c.To)
		return
	}
	Run(c.T, "", "sfdisk", "--quiet", "--no-reread", "--disk-id", c.To, "0x0badcafe")
}

// Main copies the last partition alone, under a table of a style ("gpt" or "dos") made anew.
func (c Copying) Main(style string) {
	main := c.Parts[len(c.Parts)-1]
	Run(c.T, fmt.Sprintf("label: %s\nstart=2048, size=%d, type=%s\n", style, main.Length, main.Type), "sfdisk", "--quiet", "--no-reread", c.To)
	c.partition(main, 2048)
}
