package machine

import (
	"errors"
	"maps"
	"path"
	"slices"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// WithRAMDisks has the initial RAM disks of a Linux made anew, one for each kernel of its /boot: under
// the name that the kernel's has, else under that which named gives for the kernel's version; tools pass
// over a kernel without one. Better reports whether a kernel had none that it can unpack; sure, whether
// it is known of all kernels which drivers they have: where it is not, they are taken to have them all.
func (c *Contents) WithRAMDisks(n Names, named func(version string) string) (made *Contents, better, sure bool) {
	e := c.edited()
	done, unknown := 0, 0
	v := e.At(n.Home)
	v.looked, v.payloads = maps.Clone(v.looked), maps.Clone(v.payloads)
	if v.payloads == nil {
		v.payloads = map[string]payload{}
	}
	for _, kernel := range v.Kernels {
		_, version, versioned := strings.Cut(path.Base(kernel), "-")
		if !versioned || path.Dir(kernel) != path.Join("/", n.Folder) {
			continue
		}
		drivers, known := c.KernelDrivers(n.Root, version)
		if done++; !known {
			drivers = loader.AllDrivers
			unknown++
		}
		files := v.ramDisksOf(kernel)
		if len(files) == 0 {
			files = []string{path.Join(path.Dir(kernel), named(version))}
			better = true
		}
		for _, file := range files {
			key := strings.ToLower(file)
			p := v.payloads[key]
			better = better || p.err == nil && p.Form != "" && p.NoRAMDisk() != ""
			if v.looked != nil {
				v.looked[key] = nil
			}
			p.name = file
			p.Payload = loader.Payload{Form: loader.PayloadCompressed, Size: max(1, p.Size), Drivers: drivers}
			p.err = nil
			v.payloads[key] = p
		}
	}
	return e, better, done > 0 && unknown == 0
}

// RAMDiskRoom is how many bytes making a system's initial RAM disks anew takes on the volume of its
// /boot, and how many are free there: each that is there is kept beside the new one. Common
// practice: one with drivers for every bus takes 32 MiB and more.
func (c *Contents) RAMDiskRoom(n Names) (takes, free int64, known bool) {
	v := c.At(n.Home)
	for _, kernel := range v.Kernels {
		if path.Dir(kernel) != path.Join("/", n.Folder) {
			continue
		}
		size := int64(0)
		for _, file := range v.ramDisksOf(kernel) {
			size += v.payloads[strings.ToLower(file)].Size
		}
		takes += max(size, ramDiskLeast)
	}
	used, known := v.Used.Get()
	if !known || n.Home.Inside > 0 {
		return takes, 0, false
	}
	p := c.Layout.Partitions[n.Home.Index]
	return takes, int64(p.Length)*int64(c.Layout.SectorSize) - int64(used), true
}

// ramDiskLeast is what an initial RAM disk with drivers for every bus takes at least, in bytes. Common
// practice, no source.
const ramDiskLeast = 32 << 20

// LacksLoaded lists the files that a boot loader is to load of the volume, and that are not there or not
// what they should be, where another volume has them as they should be.
func (v *Volume) LacksLoaded(other *Volume) (files []string) {
	for key, p := range other.payloads {
		_, kernel := other.kernels[key]
		if p.err != nil || kernel && p.NoKernel() != "" || !kernel && p.NoRAMDisk() != "" {
			continue
		}
		own, looked := v.payloads[key]
		gone := errors.Is(v.looked[key], volume.ErrNotFound)
		if gone || looked && own.err == nil && (kernel && own.NoKernel() != "" || !kernel && own.NoRAMDisk() != "") {
			files = append(files, p.name)
		}
	}
	slices.Sort(files)
	return files
}

// WithLoadedOf has files on a volume as another volume has them.
func (c *Contents) WithLoadedOf(i int, from *Volume, files []string) *Contents {
	e := c.edited()
	v := &e.Volumes[i]
	v.payloads, v.kernels = maps.Clone(v.payloads), maps.Clone(v.kernels)
	if v.payloads == nil {
		v.payloads = map[string]payload{}
	}
	if v.kernels == nil {
		v.kernels = map[string]kernelProgram{}
	}
	for _, file := range files {
		key := strings.ToLower(file)
		v.nowThere(file)
		if p, ok := from.payloads[key]; ok {
			v.payloads[key] = p
		}
		v.putStarted(file, from)
		if k, ok := from.kernels[key]; ok {
			v.kernels[key] = k
		}
	}
	return e
}
