package course

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/machine"
)

// Twin is the question which of two drives with the same identifiers is taken.
const Twin = "twin"

// Choose settles which attached drive a name means. Two drives that both carry it
// are one question.
func (k *Walk) Choose(a *Attempt, what string,
	on func(*machine.Drive) (found []machine.Spot, known bool)) (hits []machine.Spot, known bool) {
	known = true
	for _, d := range k.Drives() {
		found, ok := on(d)
		known = known && ok
		if len(found) > 0 && !slices.ContainsFunc(hits, found[0].MirrorOf) {
			hits = append(hits, found[0])
		}
	}
	if len(hits) < 2 {
		return hits, known
	}
	q := Question{ID: Twin, Stage: StageConfiguration,
		Text: "Both attached drives carry the same identifiers. Which of them does the loader take?",
		How:  "Pull the original for the first start: then there is only one.",
	}
	for _, h := range hits {
		q.Options = append(q.Options, Option{ID: h.Drive.Name, Label: h.Drive.Called()})
	}
	picked := k.World.Ask(q)
	for _, h := range hits {
		if h.Drive.Name == picked {
			return []machine.Spot{h}, true
		}
	}
	return hits[:1], true
}

// HangsOn asks whether a drive of which nobody told the bus hangs on a bus.
func (k *Walk) HangsOn(d *machine.Drive, bus, called string) bool {
	return k.World.Yes(UnknownBool, Question{ID: bus + ":" + d.Name, Stage: StageDrive, Drive: d.Name,
		Text: "Does " + d.Called() + " hang on " + called + " at the start?",
		How:  "Look at the cable: inside the machine, or outside of it; the firmware's setup names the bus."})
}

// NewWay reports whether the system reaches its disk in another way than when it
// last ran, and names that way: another controller mode, or another bus.
func (k *Walk) NewWay(d *machine.Drive) (name string, changed bool) {
	now, known := k.Machine.Firmware.StorageMode.Get()
	before, ok := k.Machine.Firmware.StorageModeBefore.Get()
	if known && ok && now != before {
		return "the controller's mode (" + strings.ToUpper(now) + ", before " + strings.ToUpper(before) + ")", true
	}
	bus, known := d.Bus.Get()
	was, had := k.originalBus()
	switch {
	case d.Role == machine.RoleOriginal, known && had && was == bus:
		return "", false // it ran from there
	case bus == "sata" && !had:
		return "", false // nothing tells of a change
	case !known:
		return "the bus it hangs on now", true
	case bus == "nvme":
		return "NVMe", true
	}
	return strings.ToUpper(bus), true
}

func (k *Walk) originalBus() (string, bool) {
	for i := range k.Machine.Drives {
		if k.Machine.Drives[i].Role == machine.RoleOriginal {
			return k.Machine.Drives[i].Bus.Get()
		}
	}
	return "", false
}

// Windows is what a Windows is called to Driver; a Linux is called by what would hold its driver.
const Windows = "Windows"

// Driver asks whether the system can reach its disk on the clone's bus.
// start-rules, stage 8.
func (k *Walk) Driver(a *Attempt, home machine.Spot, system string, shows Symptom) bool {
	d := home.Drive
	name, changed := k.NewWay(d)
	if !changed {
		return true
	}
	bus, _ := d.Bus.Get()
	if !k.World.Yes(UnknownBool, Question{
		ID: "driver:" + d.Name, Stage: StageSystem, Drive: d.Name,
		Text: fmt.Sprintf("Has %s on %s a driver for %s that it loads at start-up?", system, d.Called(), name),
		How:  howDriver(system, bus),
	}) {
		a.Stop("no-driver", StageSystem, shows, fmt.Sprintf("%s%s on %s has no start-up driver for %s.", strings.ToUpper(system[:1]), system[1:], d.Called(), name))
		return false
	}
	return true
}

// drivers are the kernel's module for a bus, and the setting of a kernel that has it built in. From
// memory.
var drivers = map[string][2]string{"nvme": {"nvme", "BLK_DEV_NVME"}, "sata": {"ahci", "SATA_AHCI"},
	"usb": {"usb-storage", "USB_STORAGE"}, "virtio": {"virtio_blk", "VIRTIO_BLK"}}

// howDriver says how to find out whether a system has a driver for a bus. lsinitramfs(8), lsinitrd(1).
func howDriver(system, bus string) string {
	const ranBefore = "A system that has run from such a drive before has it."
	driver, known := drivers[bus]
	switch {
	case system == Windows && bus == "usb":
		return "An ordinary Windows does not start from USB, and no start in safe mode changes that. Build the drive in."
	case system == Windows:
		return ranBefore + " One start in safe mode from the new drive loads it."
	case !known:
		return ranBefore
	}
	return fmt.Sprintf("%s In a live Linux with its root mounted on /mnt, this names the driver where it is there: lsinitramfs /mnt/boot/initrd.img-* | grep %s (lsinitrd, where dracut made it), or this says =y: grep CONFIG_%s= /mnt/boot/config-*",
		ranBefore, driver[0], driver[1])
}

// LostPart reports a partition that the end of the disk cuts off.
func (k *Walk) LostPart(a *Attempt, home machine.Spot) bool {
	p := home.Partition()
	if !home.Drive.Contents.Lost(p) {
		return false
	}
	a.Stop("system-cut-off", StageSystem, DeviceDamaged,
		fmt.Sprintf("The system's partition %d is cut off by the end of %s.", p.Number, home.Drive.Called()),
		home.Drive.Cite("Last sector of partition "+fmt.Sprint(p.Number), fmt.Sprint(p.End()-1), p.Source))
	return true
}

// ComesUp ends a start that reaches its system, with what is worth knowing; facts are
// further ones that prove it.
func (k *Walk) ComesUp(a *Attempt, home machine.Spot, system string, facts ...machine.Fact) Result {
	d, v, p := home.Drive, home.Volume(), home.Partition()
	lies := d.Cite(fmt.Sprintf("Partition %d", p.Number),
		fmt.Sprintf("%s, %s", v.Kind, disk.Both(disk.Span(p.Length, d.Contents.Layout.SectorSize))), p.Source)
	a.Pass(StageSystem, fmt.Sprintf("%s comes up from %s.", system, home.Called()), append([]machine.Fact{lies}, facts...)...)
	if unclean, ok := v.Unclean.Get(); ok && unclean {
		a.Risk("unclean", "The file system was not closed cleanly: it is checked at the first start, which takes a while.", d.Cite("Closed cleanly", "no", v.Unclean.Source()))
	}
	if asleep, ok := v.Hibernated.Get(); ok && asleep {
		a.Risk("asleep", "The system is asleep or was shut down with fast start-up: it wakes from a memory image made on the original. Shut it down fully before the copy.",
			d.Cite("Sleep file", "live", v.Hibernated.Source()))
	}
	for _, q := range v.Problems {
		a.Risk(Rule(q.Code), q.Text, machine.ProblemFact(q, d.Name))
	}
	return Result{State: Passes, Home: home}
}

// VolumeFacts cites what is wrong with a volume and its loaders.
func (k *Walk) VolumeFacts(at machine.Spot) []machine.Fact {
	var facts []machine.Fact
	for _, q := range at.Volume().Problems {
		facts = append(facts, machine.ProblemFact(q, at.Drive.Name))
	}
	return facts
}
