package truth

import (
	"os"
	"slices"
)

// DracutFolder holds a real Debian whose initial RAM disk dracut makes, made by scripts/debian dracut;
// "" where there is none.
func DracutFolder() string { return os.Getenv("LATCHKEY_DRACUT") }

// noDracutRoot is what dracut, with systemd in it, says of a root that it does not find: it waits without
// an end.
const noDracutRoot = `does not exist|[Ee]mergency [Mm]ode|Timed out waiting for device|\(\d+min.* / no limit\)`

// dracutLayouts are some of the layouts with the initial RAM disk of dracut.
func dracutLayouts() (all []layout) {
	if DracutFolder() == "" {
		return nil
	}
	names := []string{"root on LVM", "root on LVM by UUID", "root on LVM, a volume that is not there", "root on one half of a mirror",
		"root on XFS", "root on XFS with a new identifier", "root on Btrfs", "root in a subvolume of Btrfs",
		"root in a subvolume of Btrfs that is not there", "systemd-boot with an entry", "a unified kernel as the fallback",
		"a unified kernel with another root"}
	for _, l := range layouts() {
		if !slices.Contains(names, l.name) {
			continue
		}
		l.name, l.tree, l.was = "dracut, "+l.name, DracutFolder(), nil
		if l.shows == noRoot || l.shows == noSubvolume {
			l.shows = noDracutRoot
		}
		all = append(all, l)
	}
	return all
}
