package listing_test

import (
	"fmt"
	"strings"
	"testing"

	"latchkey/capture/listing"
)

// BenchmarkRead reads 5 MB of lsblk's JSON, one line a device, and of a partition
// tool's dump.
func BenchmarkRead(b *testing.B) {
	var j, d strings.Builder
	j.WriteString("{\n \"blockdevices\": [\n")
	for i := 0; j.Len() < 5<<20; i++ {
		fmt.Fprintf(&j, "  {\"name\":\"sd%c%c\", \"type\":\"disk\", \"size\":500107862016, \"model\":\"Corvane S210\", \"tran\":\"sata\", \"log-sec\":512, \"pttype\":\"gpt\"},\n", 'a'+i%26, 'a'+i/26%26)
	}
	j.WriteString("  {\"name\":\"sda\", \"type\":\"disk\"}\n ]\n}\n")
	d.WriteString("label: gpt\nlabel-id: 7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071\nunit: sectors\n\n")
	for i := 0; d.Len() < 5<<20; i++ {
		fmt.Fprintf(&d, "/dev/sda%d : start=%d, size=2048, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n", i%200+1, i*2048)
	}
	for name, text := range map[string]string{"lsblk": j.String(), "sfdisk": d.String()} {
		raw := []byte(text)
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(raw)))
			for b.Loop() {
				l, err := listing.Read("", raw, "")
				if err != nil || len(l.Disks) == 0 {
					b.Fatal(err)
				}
			}
		})
	}
}

// BenchmarkReadAtTheBounds reads texts that are as long as is taken, or make much of
// little.
func BenchmarkReadAtTheBounds(b *testing.B) {
	for name, text := range map[string]string{
		"lines of no form": strings.Repeat(strings.Repeat("a", 39)+"\n", 199_000),
		"one line":         strings.Repeat("a b ", 2<<20),
		"blocks":           strings.Repeat("x\n\n", 99_000),
		"a table":          "NAME TYPE SIZE\n" + strings.Repeat("sda disk 5\n", 199_000),
		"many tables":      strings.Repeat("Number Size PartitionStyle\n1 2 GPT\n", 99_000),
		"a list":           strings.Repeat("Number : 1\nSize : 1\nPartitionStyle : GPT\n", 66_000),
		"prompts":          strings.Repeat("a@b:~$ x\n/dev/sda1: UUID=\"x\" TYPE=\"ext4\"\n", 99_000),
		"a code page":      strings.Repeat("\x84\x94\xe1 a\n", 190_000),
	} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				_, _ = listing.Read("", []byte(text), "")
			}
		})
	}
}
