package reference

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
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
	Number        int
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

// Main copies the largest partition alone, under a table of a style ("gpt" or "dos") made anew.
func (c Copying) Main(style string) {
	main := slices.MaxFunc(c.Parts, func(a, b Part) int { return cmp.Compare(a.Length, b.Length) })
	Run(c.T, fmt.Sprintf("label: %s\nstart=2048, size=%d, type=%s\n", style, main.Length, main.Type), "sfdisk", "--quiet", "--no-reread", c.To)
	c.partition(main, 2048)
}

// ThroughAnImage copies every sector into a file first, and from there as Blocks does.
func (c Copying) ThroughAnImage() {
	image := filepath.Join(c.T.TempDir(), "image")
	Run(c.T, "", "dd", "status=none", "conv=sparse", "bs=1M", "if="+c.From, "of="+image)
	c.From = image
	c.Blocks()
}

// Some copies as Blocks does, and leaves partitions behind, by their numbers.
func (c Copying) Some(behind ...int) {
	c.Blocks()
	for _, n := range behind {
		Run(c.T, "", "sfdisk", "--quiet", "--no-reread", "--delete", c.To, fmt.Sprint(n))
		for _, p := range c.Parts {
			if p.Number == n {
				Run(c.T, "", "dd", "status=none", "conv=notrunc", "bs=512", "if=/dev/zero", "of="+c.To,
					fmt.Sprint("seek=", p.Start), "count=16")
			}
		}
	}
}

// Files makes partitions with new identifiers at the same places, file systems in them
// anew, and copies files: a FAT32 first, an ext4 second.
func (c Copying) Files() {
	script := "label: gpt\n"
	for _, p := range c.Parts {
		script += fmt.Sprintf("start=%d, size=%d, type=%s\n", p.Start, p.Length, p.Type)
	}
	Run(c.T, script, "sfdisk", "--quiet", "--no-reread", c.To)
	dir := c.T.TempDir()
	boot, root, boots, roots := filepath.Join(dir, "boot"), filepath.Join(dir, "root"), filepath.Join(dir, "boots"), filepath.Join(dir, "roots")
	for i, old := range []string{boot + ".old", root + ".old"} {
		p := c.Parts[i]
		Run(c.T, "", "dd", "status=none", "conv=sparse", "bs=1M", "iflag=skip_bytes,count_bytes", "if="+c.From, "of="+old,
			fmt.Sprint("skip=", p.Start*512), fmt.Sprint("count=", p.Length*512))
		Run(c.T, "", "truncate", "-s", fmt.Sprint(p.Length*512), strings.TrimSuffix(old, ".old"), old)
	}
	Run(c.T, "", "mkdir", boots, roots)
	Run(c.T, "", "mcopy", "-s", "-n", "-i", boot+".old", "::", boots)
	Run(c.T, "", "debugfs", "-R", "rdump / "+roots, root+".old")
	Run(c.T, "", "mkfs.fat", "-F", "32", boot)
	Run(c.T, "", "sh", "-c", "mcopy -s -i "+boot+" "+boots+"/* ::")
	Run(c.T, "", "mkfs.ext4", "-q", "-F", "-d", roots, root)
	for i, made := range []string{boot, root} {
		Run(c.T, "", "dd", "status=none", "conv=notrunc,sparse", "bs=1M", "oflag=seek_bytes", "if="+made, "of="+c.To,
			fmt.Sprint("seek=", c.Parts[i].Start*512))
	}
}
