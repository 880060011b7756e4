// Package windows follows a start behind the boot manager of Windows: the store,
// the default system in it, its volume and its driver for the disk. start-rules,
// stages 7 and 8.
package windows

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// LegacyManager follows the code of a Windows boot sector to its boot manager,
// start-rules stage 7.
func LegacyManager(k *course.Walk, a *course.Attempt, at machine.Spot) course.Result {
	v := at.Volume()
	p, shows, err := at.Payload(v.LegacyManager)
	switch {
	case v.LegacyManager == "bootmgr" && disk.IsNotCaptured(err):
		return a.Unproven("boot-manager-missing-evidence", course.StageConfiguration,
			fmt.Sprintf(`What is in \%s on partition %d is not in evidence.`, v.LegacyManager, at.Partition().Number), course.HowCapture)
	case err == nil && (p.Form == loader.PayloadEmpty || p.Form == loader.PayloadZeros):
		return a.Stop("boot-manager-empty", course.StageConfiguration, course.BlackCursor,
			fmt.Sprintf(`\%s on partition %d is there by its name alone: it is empty, or begins with zeros.`, v.LegacyManager, at.Partition().Number),
			at.Drive.Cite(`\`+v.LegacyManager, "nothing to start", shows))
	case v.LegacyManager == "bootmgr" || v.Told && v.Config(machine.ConfigStore, loader.StoreLegacy) != nil:
		return Windows(k, a, at, loader.StoreLegacy, "exe")
	case v.LegacyManager != "":
		return a.Unproven("loader-before-store", course.StageConfiguration, `What \`+v.LegacyManager+" loads is not examined: it predates the boot configuration store.", course.HowTry)
	case v.Kind == volume.NotCaptured || !v.Readable:
		return a.Unproven("active-files-missing-evidence", course.StageConfiguration, "The files of the active partition are not in evidence.", course.HowCapture)
	}
	return a.Unproven("boot-sector-unknown", course.StageConfiguration, "The boot sector is not a known one: what it loads cannot be told.", course.HowTry)
}

// Windows follows the boot manager: the store, the default system in it, and
// where that lies. kind is the end of the system loader's name under the
// firmware's mode. start-rules, stage 7.
func Windows(k *course.Walk, a *course.Attempt, at machine.Spot, store, kind string) course.Result {
	v, d := at.Volume(), at.Drive
	c := v.Config(machine.ConfigStore, store)
	switch {
	case c == nil && !v.Readable, c != nil && c.Missing():
		return a.Unproven("store-missing-evidence", course.StageConfiguration, "The boot configuration store is not in evidence.", course.HowCapture)
	case c == nil:
		return a.Stop("store-absent", course.StageConfiguration, course.StoreMissing,
			fmt.Sprintf("%s is not on partition %d of %s.", store, at.Partition().Number, d.Called()))
	case c.Err != nil:
		return a.StopFor("store-damaged", course.StageConfiguration, course.StoreDamaged, store+" is damaged", c.Err.Error()+".",
			d.Cite(store, c.Err.Error(), c.Source(at.Base(), "", 0, 512)))
	}
	system, ok := c.Store.Default()
	if !ok {
		return a.Stop("store-names-none", course.StageConfiguration, course.NoSystemEntry, store+" names no system to start.",
			d.Cite(store, "no default", c.Source(at.Base(), "header", 0, 512)))
	}
	if !system.IsLoader() {
		return a.Unproven("store-no-windows", course.StageConfiguration, fmt.Sprintf("The default entry of %s is no Windows loader but %s.", store, system.What()), course.HowTry)
	}
	path, ok := system.Element(loader.ElementPath)
	pathFact := d.Cite("path", path.Text, d.StoreSource(at, c, system, path))
	if ok && !strings.HasSuffix(strings.ToLower(path.Text), kind) {
		return a.Stop("store-other-mode", course.StageConfiguration, course.SystemLoaderWrong,
			fmt.Sprintf("The store starts %s, which the firmware's mode cannot run: a file ending in .%s is needed.", path.Text, kind), pathFact)
	}
	home, end := systemDevice(k, a, at, c, system)
	if end != nil {
		return *end
	}
	if c.Store.Dirty {
		a.Risk("store-unwritten", "The store was not written out whole: Windows replays its log first.", d.Cite(store, "sequence numbers differ", c.Source(at.Base(), "header", 0, 512)))
	}
	if k.Machine.Until == machine.UntilConfiguration {
		return course.Result{State: course.Passes, Home: home}
	}
	return windowsSystem(k, a, home, path.Text)
}

// systemDevice resolves the system's device and osdevice.
func systemDevice(k *course.Walk, a *course.Attempt, at machine.Spot, c *machine.Config,
	system *loader.Object) (home machine.Spot, end *course.Result) {
	for _, kind := range []uint32{loader.ElementDevice, loader.ElementOSDevice} {
		e, ok := system.Element(kind)
		if !ok || e.Device == nil {
			stop := a.Stop("store-no-device", course.StageConfiguration, course.DeviceMissing, fmt.Sprintf("The system's entry in %s has no device.", c.Path))
			return home, &stop
		}
		cited := at.Drive.Cite(e.Name(), e.Device.String(), at.Drive.StoreSource(at, c, system, e))
		switch e.Device.Kind {
		case loader.DeviceBoot:
			home = at
		case loader.DeviceGone:
			stop := a.Stop("store-device-gone", course.StageConfiguration, course.DeviceMissing, "The store looks for the system on a device that is not there.", cited)
			return home, &stop
		case loader.DeviceNamed:
			hits, _ := k.Choose(a, e.Name(),
				func(d *machine.Drive) ([]machine.Spot, bool) { return d.Places(d.ResolveLetter(e.Device.Name)), true })
			if len(hits) == 0 {
				stop := a.Unproven("store-device-unknown", course.StageConfiguration, fmt.Sprintf("The store names the system's device as %s: which partition that is, the evidence does not tell.", e.Device.Name),
					course.HowCapture, cited)
				return home, &stop
			}
			home = hits[0]
		case loader.DevicePartition:
			hits, known := k.Choose(a, e.Name(),
				func(d *machine.Drive) ([]machine.Spot, bool) {
					found, known := d.ResolveDevice(e.Device)
					return d.Places(found), known
				})
			if len(hits) == 0 && !known {
				stop := a.Unproven("store-device-unknown", course.StageConfiguration, fmt.Sprintf("The store looks for the system on %s: the evidence does not tell where that is.", e.Device), course.HowCapture, cited)
				return home, &stop
			}
			if len(hits) == 0 {
				stop := a.StopFor("store-device-absent", course.StageConfiguration, course.DeviceMissing,
					"The store looks for the system on a device that no attached disk carries", e.Device.String()+".", cited)
				return home, &stop
			}
			home = hits[0]
		default:
			stop := a.Unproven("store-device-elsewhere", course.StageConfiguration, fmt.Sprintf("The store names the system's device as %s: where that leads is not told by the disk.", e.Device), course.HowTry, cited)
			return home, &stop
		}
		if kind == loader.ElementOSDevice {
			a.Takes(at.Drive, home, fmt.Sprintf("The store leads to partition %d of %s.", home.Partition().Number, home.Drive.Called()), cited)
		}
	}
	return home, nil
}

// untried tells of a table that Linux does not take, and of a volume that is longer than its partition:
// what Windows makes of them is not known.
func untried(home machine.Spot) (text string, shows machine.Fact) {
	l := &home.Drive.Contents.Layout
	if p, none := l.NoneForTools(); none && l.Style == disk.StyleGPT {
		return "Whether Windows takes its partitions from the table of " + home.Drive.Called() + " is not known: " + p.Text,
			machine.ProblemFact(p, home.Drive.Name)
	}
	if p := home.Partition(); p.Dynamic() {
		return fmt.Sprintf("The system's partition %d belongs to a dynamic disk: where Windows' volumes lie, and on which disks, stands in a database of its own, which is not followed.",
			p.Number), home.Drive.Cite(fmt.Sprintf("Type of partition %d", p.Number), p.Type.Name, p.Source)
	}
	if p, long := home.Volume().Problem(volume.CodeVolumeTooLong); long && home.Volume().Kind == volume.KindNTFS {
		return "Windows may refuse a volume that reaches beyond its partition: " + machine.LowerFirst(p.Text),
			machine.ProblemFact(p, home.Drive.Name)
	}
	return "", shows
}

// Encrypted is the rule of a system that may ask for a key which is not at hand.
const Encrypted course.Rule = "system-encrypted"

// howKey is what settles whether it asks.
const howKey = "Find the recovery key before the first start: in the owner's account, on a printout or in the directory service. Whether it is asked for shows there."

// AsksForKey says when an encrypted system asks for its recovery key, though the copy is a whole
// one. Documentation of Windows' maker, "BitLocker recovery overview", "Common scenarios"; from memory.
const AsksForKey = "it may ask for the recovery key, as in another machine, or where firmware, mode, secure boot, boot order or the disk's place changed since."

// windowsSystem judges stage 8 for Windows.
func windowsSystem(k *course.Walk, a *course.Attempt, home machine.Spot, path string) course.Result {
	v, p, d := home.Volume(), home.Partition(), home.Drive
	cited := d.Cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	if k.LostPart(a, home) {
		return course.Result{State: course.Blocks, Home: home}
	}
	if text, fact := untried(home); text != "" {
		end := a.Unproven("system-place-unproven", course.StageSystem, text, course.HowTry, fact)
		end.Home = home
		return end
	}
	switch {
	case v.Kind == volume.NotCaptured || v.FilesErr != nil && !v.Readable && machine.Missing(v):
		end := a.Unproven("system-missing-evidence", course.StageSystem, "The system's partition is not in evidence.", course.HowCapture, cited)
		end.Home = home
		return end
	case v.Kind == volume.KindBitLocker:
		if !k.World.Yes(course.UnknownBool, course.Question{ID: "recovery-key:" + d.Name, Stage: course.StageSystem, Drive: d.Name,
			Text: "The system's partition is encrypted. Was the encryption suspended before the copy, or is the recovery key at hand?",
			How:  "In the old system: manage-bde -status. The key is in the owner's account, a printout or the directory service."}) {
			end := a.Unproven(Encrypted, course.StageSystem, "The system's partition is encrypted, and its key is sealed to the machine as it was: "+AsksForKey+" Without that key it does not come up then.", howKey, cited)
			end.Home = home
			return end
		}
	case v.Kind != volume.KindNTFS:
		return a.Stop("system-not-ntfs", course.StageSystem, course.Unmountable, fmt.Sprintf("The system's partition %d holds no NTFS volume but %s.", p.Number, v.Kind), cited)
	case !v.Readable:
		return a.Stop("system-unread", course.StageSystem, course.Unmountable, fmt.Sprintf("The NTFS volume in partition %d cannot be read.", p.Number),
			append(k.VolumeFacts(home), cited)...)
	default:
		if end := loads(a, home, path); end != nil {
			return *end
		}
	}
	facts, ok := driver(k, a, home)
	if !ok {
		return course.Result{State: course.Blocks, Home: home}
	}
	if end := letter(k, a, home); end != nil {
		return *end
	}
	return k.ComesUp(a, home, "Windows", facts...)
}
