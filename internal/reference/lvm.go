package reference

import (
	"fmt"
	"strings"
	"testing"
)

// LVM runs LVM's own tools on one part of an image, without the kernel's device mapper.
type LVM struct {
	t      testing.TB
	Device string
}

// NewLVM attaches a part of an image, from a byte on, until the test ends or Detach.
func NewLVM(t testing.TB, image string, offset, length int64) *LVM {
	t.Helper()
	Need(t, "losetup", "pvcreate")
	loop := strings.TrimSpace(Run(t, "", "losetup", "-f", "--show", "-o", fmt.Sprint(offset), "--sizelimit",
		fmt.Sprint(length), image))
	l := &LVM{t, loop}
	t.Cleanup(l.Detach)
	return l
}

// Detach lets go of the image.
func (l *LVM) Detach() {
	if l.Device != "" {
		Run(l.t, "", "losetup", "-d", l.Device)
		l.Device = ""
	}
}

// Run runs a tool of LVM on this device alone.
func (l *LVM) Run(tool string, args ...string) string {
	l.t.Helper()
	config := fmt.Sprintf(`devices{filter=["a|^%s$|","r|.*|"] use_devicesfile=0} activation{udev_sync=0 udev_rules=0}`,
		l.Device)
	return Run(l.t, "", tool, append([]string{"-q", "--config", config, "--driverloaded", "n"}, args...)...)
}

// Group makes a volume group of logical volumes, given as "root=64M".
func (l *LVM) Group(name string, volumes ...string) {
	l.t.Helper()
	l.Run("pvcreate", l.Device)
	l.Run("vgcreate", "-s", "4m", name, l.Device)
	for _, v := range volumes {
		lv, size, _ := strings.Cut(v, "=")
		l.Run("lvcreate", "-an", "-Zn", "-Wn", "-L", size, "-n", lv, name)
	}
}
