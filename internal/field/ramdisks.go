package field

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"latchkey/internal/diskmaker"
)

// ramDiskSize is how long the initial RAM disks are, in bytes.
const ramDiskSize = 16 << 10

// ramDisk is an initial RAM disk that does not say what its kernel has built in.
var ramDisk = filled([2]string{"init", "#!/bin/sh\n"})

// filled is an initial RAM disk of files, with one beside them that makes it as long as all are.
func filled(files ...[2]string) []byte {
	with := func(n int) []byte {
		return diskmaker.RAMDiskOf(append([][2]string{{"filler", strings.Repeat("x", n)}}, files...)...)
	}
	return with(ramDiskSize - len(with(0)))
}

// holding is a disk whose initial RAM disks have modules, and say that nothing else is built in.
func holding(is disks, modules ...string) disks {
	files := [][2]string{{"usr/lib/modules/6.5.6/modules.builtin", "kernel/fs/ext4/ext4.ko\n"}}
	for _, m := range modules {
		files = append(files, [2]string{"usr/lib/modules/6.5.6/kernel/" + m + ".ko.zst", ""})
	}
	other := filled(files...)
	return func(t *testing.T) diskmaker.Disk {
		d := is(t)
		for i := range d.Partitions {
			v := &d.Partitions[i].Volume
			if v.Laid != nil {
				laid, err := v.Laid.Replaced(ramDisk, other)
				require.NoError(t, err)
				v.Laid = laid
			}
			for name, raw := range v.Files {
				v.Files[name] = bytes.ReplaceAll(raw, ramDisk, other)
			}
		}
		return d
	}
}
