package told_test

import (
	"encoding/json"
	"testing"

	"latchkey/capture/told"
	"latchkey/core/disk"
)

// FuzzDescribe takes what a person tells of a disk.
func FuzzDescribe(f *testing.F) {
	f.Add([]byte(`{"style":"GPT","capacity":"465.76 GB","id":"{7E21B6D0-4C1A-4F0B-9A55-3C5A19E00071}","partitions":[{"purpose":"boot","size":"100 MB","fileSystem":"FAT32","active":true}]}`))
	f.Add([]byte(`{"style":"MBR","capacity":"9223372036854775807","sectorSize":4096,"partitions":[{"size":"1e400"}]}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		var d told.Disk
		if json.Unmarshal(raw, &d) != nil {
			return
		}
		described, err := d.Describe()
		if err != nil {
			return
		}
		if c := described.Contents(); c != nil && c.Layout.Bytes() > disk.MaxSize {
			t.Fatalf("%d bytes", c.Layout.Bytes())
		}
	})
}
