package truth

import (
	"os"
	"slices"

	"latchkey/internal/diskmaker"
)

// DracutFolder holds a real Debian whose initial RAM disk dracut makes, made by scripts/debian dracut;
// "" where there is none.
func DracutFolder() string { return os.Getenv("LATCHKEY_DRACUT") }

// noDracutRoot is what dracut says of a root that it does not find, soonRetried that it waits 20 s for it
// and not for minutes. dracut.cmdline(7), "rd.retry".
const (
	noDracutRoot = "does not exist|[Ee]mergency [Mm]ode|Timed out waiting for device"
	soonRetried  = " rd.retry=20"
)

// dracutLayouts are some of the layouts with the initial RAM disk of dracut.
func dracutLayouts() (all []layout) {
	if DracutFolder() == "" {
		return nil
	}
	names := []string{"root on LVM", "root on LVM by UUID", "root on LVM, a volume that is not there", "root on one half of a mirror",
		"root on XFS", "root on XFS with a new identifier", "root on Btrfs", "root in a subvolume of Btrfs", "systemd-boot with an entry", "a unified kernel as the fallback"}
	for _, l := range layouts() {
		if !slices.Contains(names, l.name) {
			continue
		}
		if l.name == "root on one half of a mirror" { // without, it is not put together
			l.name, l.root = l.name+" that the kernel line names", l.root+" rd.md.uuid="+diskmaker.RAIDUUID
		}
		l.name, l.tree, l.was = "dracut, "+l.name, DracutFolder(), nil
		if l.shows == noRoot || l.shows == noSubvolume {
			l.shows, l.root = noDracutRoot, l.root+soonRetried
		}
		all = append(all, l)
	}
	return all
}
