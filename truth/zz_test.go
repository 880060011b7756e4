package truth

import (
	"fmt"
	"testing"
	"time"

	"latchkey/internal/diskmaker"
)

func TestZZ(t *testing.T) {
	var all []Scenario
	for _, kind := range []string{"fat32", "fat16"} {
		offs := []int64{0, 1, 2, 11, 12, 13, 14, 15, 16, 17, 18, 19, 20, 21, 22, 23, 26, 32, 33, 34, 35}
		if kind == "fat32" {
			offs = append(offs, 36, 37, 38, 39, 40, 41, 42, 43, 44, 45, 48, 50, 66)
		}
		for _, off := range offs {
			for _, v := range []byte{0, 1, 2, 3, 0x29, 0x49, 0x80, 0xFF} {
				boot := esp(diskmaker.Volume{Kind: kind, Files: place{"a", 1}.programs(fallbackX64)})
				if kind == "fat16" {
					boot.MiB = 32
				}
				d := Drive{Name: "a", Disk: gptDisk(1, boot, data()), Bus: "nvme"}
				d = d.spoiled(func(m *diskmaker.Image) { write(m, mib+off, v) })
				all = append(all, Scenario{Name: fmt.Sprintf("%s byte %d is %02X", kind, off, v), Firmware: OVMF, Limit: 40 * time.Second, Drives: []Drive{d}})
			}
		}
	}
	n := 0
	RunAll(all, 3, func(r Report) {
		n++
		if r.Err != nil || r.Differs != "" {
			fmt.Println(r.Scenario.Name, r.Differs, r.Err)
		}
	})
	fmt.Println(n, "done")
}
