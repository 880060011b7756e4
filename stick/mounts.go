package stick

import (
	"os"
	"os/exec"
	"slices"
	"strings"
)

// mountsBelow is where the plans' commands mount what they work on.
const mountsBelow = "/mnt/"

// held is what a step's commands hold of the disks: what they mounted, and what they had put together.
type held struct {
	mounts  []string
	devices []string
}

// maxNesting bounds how deep volumes lie in each other: RAID, LVM and LUKS, each once more than anybody has them.
const maxNesting = 6

func heldNow() held { return held{mountedPoints(), putTogether("/sys/block")} }

// leave takes off what a step that failed holds beyond what was held before it, the last first: it would
// fail at that the next time.
func (before held) leave() {
	for _, point := range slices.Backward(mountedPoints()) {
		if strings.HasPrefix(point, mountsBelow) && !slices.Contains(before.mounts, point) {
			_ = exec.Command("umount", point).Run()
		}
	}
	for range maxNesting { // one that lies in another keeps that open
		known := func(name string) bool { return slices.Contains(before.devices, name) }
		left := slices.DeleteFunc(putTogether("/sys/block"), known)
		if len(left) == 0 {
			return
		}
		for _, name := range left {
			program, args := takesApart(name)
			_ = exec.Command(program, args...).Run()
		}
	}
}

// mountedPoints are where something is mounted, in the order in which it was. proc_pid_mounts(5).
func mountedPoints() (points []string) {
	raw, _ := os.ReadFile("/proc/self/mounts")
	for line := range strings.Lines(string(raw)) {
		if fields := strings.Fields(line); len(fields) > 1 {
			points = append(points, fields[1])
		}
	}
	return points
}

// putTogether are the block devices that the kernel makes of others: logical volumes and opened
// encryption (dm-0 and so on), and RAID (md0, md127). The kernel's ABI/stable/sysfs-block and
// ABI/testing/sysfs-block-dm; Documentation/admin-guide/md.rst.
func putTogether(block string) (names []string) {
	list, _ := os.ReadDir(block)
	for _, e := range list {
		for _, made := range []string{"dm", "md"} {
			if _, err := os.Stat(block + "/" + e.Name() + "/" + made); err == nil {
				names = append(names, e.Name())
			}
		}
	}
	return names
}

// takesApart is the program that takes such a device apart. No shell reads it: an array may be called
// by a name that lies on its disks. dmsetup(8), mdadm(8).
func takesApart(name string) (program string, args []string) {
	if strings.HasPrefix(name, "dm-") {
		return "dmsetup", []string{"remove", "/dev/" + name}
	}
	return "mdadm", []string{"--stop", "/dev/" + name}
}
