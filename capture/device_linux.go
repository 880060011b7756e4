package capture

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"latchkey/core/firmware"
)

// Where Linux tells of block devices and boot variables; kernel documentation,
// ABI/stable/sysfs-block and filesystems/efivarfs.
const (
	sysBlock = "/sys/class/block"
	efivars  = "/sys/firmware/efi/efivars"
)

// OpenDevice opens a block device or an image for reading only.
func OpenDevice(path string) (*Device, error) {
	if whole := partitionOf(sysBlock, path); whole != "" {
		return nil, partitionError(path, whole)
	}
	f, size, err := openSized(path)
	if err != nil {
		return nil, err
	}
	d := &Device{ReaderAt: f, Closer: f, Size: size, Variables: map[string][]byte{}, now: sizeOf(f)}
	info, err := f.Stat()
	if err == nil && info.Mode()&os.ModeDevice != 0 {
		d.describe(path)
		if files, err := VariableFiles(efivars); err == nil {
			d.Variables = files
		}
	}
	return d, nil
}

// describe reads what the kernel tells of a block device.
func (d *Device) describe(path string) {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	dir := filepath.Join(sysBlock, filepath.Base(path))
	d.LogicalSectorSize = sysNumber(filepath.Join(dir, "queue/logical_block_size"))
	d.PhysicalSectorSize = sysNumber(filepath.Join(dir, "queue/physical_block_size"))
	d.Model = sysText(filepath.Join(dir, "device/model"))
	d.Serial = firstOf(sysText(filepath.Join(dir, "device/serial")), sysText(filepath.Join(dir, "serial")),
		unitSerial(sysBytes(filepath.Join(dir, "device/vpd_pg80"))))
	d.Running = runsFrom("/", filepath.Base(path))
	where, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return
	}
	for _, b := range []struct{ mark, bus string }{
		{"/usb", "usb"}, {"/nvme", "nvme"}, {"/ata", "sata"}, {"/virtio", "virtio"}, {"/mmc", "sd"}, {"/host", "scsi"},
	} {
		if strings.Contains(where, b.mark) {
			d.Bus = b.bus
			return
		}
	}
}

// partitionOf names the disk that a partition lies on, as the kernel tells of it below a
// folder; "" for what is none.
func partitionOf(below, path string) string {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	dir, err := filepath.EvalSymlinks(filepath.Join(below, filepath.Base(path)))
	if err != nil || !strings.HasPrefix(path, "/dev/") || sysText(filepath.Join(dir, "partition")) == "" {
		return ""
	}
	return "/dev/" + filepath.Base(filepath.Dir(dir))
}

// Disks lists the drives that the kernel tells of, without those that are none.
func Disks() ([]Found, error) {
	entries, err := os.ReadDir("/sys/block")
	if err != nil {
		return nil, err
	}
	var list []Found
	for _, e := range entries {
		name := e.Name()
		sectors := sysNumber(filepath.Join(sysBlock, name, "size")) // of 512 bytes, whatever the drive's
		if sectors == 0 || nodisk.MatchString(name) {
			continue
		}
		var d Device
		d.describe("/dev/" + name)
		list = append(list, Found{"/dev/" + name, int64(sectors) * 512, d.Model, d.Bus, d.Running,
			controllerOf(filepath.Join(sysBlock, name))})
	}
	return list, nil
}

// controllerOf is the way to a device from the first root of the PCI bus, as the kernel's folders lie
// within each other. Linux' Documentation/PCI/sysfs-pci.
func controllerOf(device string) string {
	real, err := filepath.EvalSymlinks(device)
	if err != nil {
		return ""
	}
	_, way, is := strings.Cut(real, "/pci0000:00/")
	if !is {
		return ""
	}
	var nodes []string
	for part := range strings.SplitSeq(way, "/") {
		if strings.HasPrefix(part, "pci") { // another root behind it, as of drives that a controller hides
			return ""
		}
		var domain, bus, device, function byte
		if n, _ := fmt.Sscanf(part, "%x:%x:%x.%x", &domain, &bus, &device, &function); n != 4 || domain != 0 {
			break
		}
		nodes = append(nodes, firmware.PCINode(device, function))
	}
	return strings.Join(nodes, "/")
}

// nodisk are devices of the kernel's own making.
var nodisk = regexp.MustCompile(`^(loop|ram|zram|dm-|md|sr|fd|nbd)`)

// runsFrom reports whether the root file system lies on a disk, itself or by way
// of what the kernel maps onto it. Linux' /proc/self/mountinfo (proc(5)) and
// /sys/dev/block. top is the folder that holds proc and sys.
func runsFrom(top, disk string) bool {
	raw, err := os.ReadFile(filepath.Join(top, "proc/self/mountinfo"))
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(raw)) {
		f := strings.Fields(line) // ID, parent, major:minor, root, mount point
		if len(f) > 4 && f[4] == "/" && liesOn(filepath.Join(top, "sys/dev/block", f[2]), disk, 0) {
			return true
		}
	}
	return false
}

// liesOn follows a block device down to the disks under it.
func liesOn(device, disk string, depth int) bool {
	dir, err := filepath.EvalSymlinks(device)
	if err != nil || depth > 8 {
		return false
	}
	if filepath.Base(dir) == disk || filepath.Base(filepath.Dir(dir)) == disk {
		return true
	}
	under, _ := filepath.Glob(filepath.Join(dir, "slaves/*"))
	for _, u := range under {
		if liesOn(u, disk, depth+1) {
			return true
		}
	}
	return false
}

func firstOf(texts ...string) string {
	for _, t := range texts {
		if t != "" {
			return printable([]byte(t))
		}
	}
	return ""
}

// sysBytes is what the kernel tells in a file; nothing where it tells nothing.
func sysBytes(path string) []byte {
	raw, _ := os.ReadFile(path)
	return raw
}

func sysText(path string) string { return strings.TrimSpace(string(sysBytes(path))) }

func sysNumber(path string) int {
	n, err := strconv.Atoi(sysText(path))
	if err != nil {
		return 0
	}
	return n
}
