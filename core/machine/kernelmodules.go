package machine

import (
	"errors"
	"path"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// modulesFolder holds a folder of modules for each release of the kernel; driverFolders are those below it in which
// the drivers of drives lie. modprobe(8); the kernel's makefiles.
const modulesFolder = "/lib/modules"

var driverFolders = []string{"drivers/nvme/host", "drivers/pci/controller", "drivers/ata", "drivers/scsi", "drivers/usb/storage",
	"drivers/usb/host"}

// maxReleases bounds the releases of a system's kernels that are looked at, maxBuiltIn the list of what one has built
// in, in bytes.
const (
	maxReleases = 16
	maxBuiltIn  = 1 << 20
)

// kernelModules looks for the drivers of drives among the modules of a system in a folder: of these an initial RAM
// disk is made anew.
func (g *gathering) kernelModules(in string) {
	releases, err := g.files.ReadDir(in + modulesFolder)
	if err != nil {
		return
	}
	of := map[string]loader.Drivers{}
	for _, r := range releases[:min(len(releases), maxReleases)] {
		if held, ok := g.modulesOf(path.Join(in+modulesFolder, r.Name)); ok {
			of[r.Name] = held
		}
	}
	if g.volume.drivers == nil {
		g.volume.drivers = map[string]map[string]loader.Drivers{}
	}
	g.volume.drivers[in] = of
}

func (g *gathering) modulesOf(folder string) (held loader.Drivers, ok bool) {
	builtIn, err := volume.ReadFile(g.files, folder+"/modules.builtin", maxBuiltIn)
	if err != nil {
		return 0, false
	}
	held = loader.BuiltInDrivers(builtIn.Bytes) | loader.DriversRead | loader.DriversWhole | loader.DriversBuiltIn
	for _, of := range driverFolders {
		files, err := g.files.ReadDir(folder + "/kernel/" + of)
		if err != nil && !errors.Is(err, volume.ErrNotFound) {
			return 0, false
		}
		for _, f := range files {
			held |= loader.DriverIn(f.Name)
		}
	}
	return held, true
}

// KernelDrivers are the drivers of drives that the kernel of a release has, of the system at a place; known is not
// set where that is not in evidence.
func (c *Contents) KernelDrivers(root Address, release string) (held loader.Drivers, known bool) {
	if root.Index < 0 {
		return 0, false
	}
	of := c.At(root).drivers[root.Folder]
	if held, known = of[release]; known || len(of) != 1 {
		return held, known
	}
	for _, only := range of { // the kernel is not called by its release
		held = only
	}
	return held, true
}
