package startup

import (
	"fmt"
	"strings"

	"latchkey/core/loader"
	"latchkey/core/volume"
)

// The boot manager's screens when it cannot go on. start-rules, stage 7; the
// codes are common practice.
const (
	screenStoreMissing = "a blue screen of the boot manager with 0xc000000f: the boot configuration data is missing or incomplete."
	screenStoreDamaged = "a blue screen of the boot manager with 0xc000014c: the boot configuration data is damaged."
	screenNoSystem     = "a blue screen of the boot manager with 0xc0000098: no valid system entry."
	screenNoDevice     = "a blue screen of the boot manager with 0xc000000e: a device that is needed is not there."
	screenNoLoader     = "a blue screen of the boot manager with 0xc000000f: the system's loader is missing."
	screenWrongLoader  = "a blue screen of the boot manager: the system's loader cannot be started in this mode (0xc000007b or 0xc000035a)."
	screenNoDriver     = "the stop code INACCESSIBLE BOOT DEVICE (0x7B)."
	screenKey          = "a blue screen that asks for the recovery key."
	screenUnmountable  = "the stop code UNMOUNTABLE BOOT VOLUME (0xED), or a repair that does not end."
)

// windows follows the boot manager: the store, the default system in it, and
// where that lies. kind is the end of the system loader's name under the
// firmware's mode. start-rules, stage 7.
func (k *walk) windows(a *Attempt, at spot, store, kind string) ending {
	v, d := at.volume(), at.drive
	c := v.config(ConfigStore, store)
	switch {
	case c == nil && v.Files == nil, c != nil && c.Missing():
		return a.unproven(StageConfiguration, "The boot configuration store is not in evidence.", howCapture)
	case c == nil:
		return a.stop(StageConfiguration, screenStoreMissing, fmt.Sprintf("%s is not on partition %d of %s.", store, at.partition().Number, d.called()))
	case c.Err != nil:
		return a.stop(StageConfiguration, screenStoreDamaged, fmt.Sprintf("%s is damaged: %v.", store, c.Err), d.cite(store, c.Err.Error(), c.source(at.base(), "", 0, 512)))
	}
	system, ok := c.Store.Default()
	if !ok {
		return a.stop(StageConfiguration, screenNoSystem, store+" names no system to start.", d.cite(store, "no default", c.source(at.base(), "header", 0, 512)))
	}
	if !system.IsLoader() {
		return a.unproven(StageConfiguration, fmt.Sprintf("The default entry of %s is no Windows loader but %s.", store, system.What()), howTry)
	}
	path, ok := system.Element(loader.ElementPath)
	pathFact := d.cite("path", path.Text, d.storeSource(at, c, system, path))
	if ok && !strings.HasSuffix(strings.ToLower(path.Text), kind) {
		return a.stop(StageConfiguration, screenWrongLoader,
			fmt.Sprintf("The store starts %s, which the firmware's mode cannot run: a file ending in .%s is needed.", path.Text, kind), pathFact)
	}
	home, end := k.systemDevice(a, at, c, system)
	if end != nil {
		return *end
	}
	if c.Store.Dirty {
		a.risk("The store was not written out whole: Windows replays its log first.", d.cite(store, "sequence numbers differ", c.source(at.base(), "header", 0, 512)))
	}
	if k.m.Until == UntilConfiguration {
		return ending{Passes, home}
	}
	return k.windowsSystem(a, home, path.Text)
}

// systemDevice resolves the system's device and osdevice.
func (k *walk) systemDevice(a *Attempt, at spot, c *Config, system *loader.Object) (home spot, end *ending) {
	for _, kind := range []uint32{loader.ElementDevice, loader.ElementOSDevice} {
		e, ok := system.Element(kind)
		if !ok || e.Device == nil {
			stop := a.stop(StageConfiguration, screenNoDevice, fmt.Sprintf("The system's entry in %s has no device.", c.Path))
			return home, &stop
		}
		cited := at.drive.cite(e.Name(), e.Device.String(), at.drive.storeSource(at, c, system, e))
		switch e.Device.Kind {
		case loader.DeviceBoot:
			home = at
		case loader.DeviceGone:
			stop := a.stop(StageConfiguration, screenNoDevice, "The store looks for the system on a device that is not there.", cited)
			return home, &stop
		case loader.DeviceNamed:
			hits, _ := k.choose(a, e.Name(), func(d *Drive) ([]int, bool) { return d.resolveLetter(e.Device.Name), true })
			if len(hits) == 0 {
				stop := a.unproven(StageConfiguration, fmt.Sprintf("The store names the system's device as %s: which partition that is, the evidence does not tell.", e.Device.Name), howCapture, cited)
				return home, &stop
			}
			home = hits[0]
		case loader.DevicePartition:
			hits, _ := k.choose(a, e.Name(), func(d *Drive) ([]int, bool) { return d.resolveDevice(e.Device), d.Contents != nil })
			if len(hits) == 0 {
				stop := a.stop(StageConfiguration, screenNoDevice,
					fmt.Sprintf("The store looks for the system on a device that no attached disk carries: %s.", e.Device), cited)
				return home, &stop
			}
			home = hits[0]
		default:
			stop := a.unproven(StageConfiguration, fmt.Sprintf("The store names the system's device as %s: where that leads is not told by the disk.", e.Device), howTry, cited)
			return home, &stop
		}
		if kind == loader.ElementOSDevice {
			a.takes(at.drive, home, fmt.Sprintf("The store leads to partition %d of %s.", home.partition().Number, home.drive.called()), cited)
		}
	}
	return home, nil
}

// windowsSystem judges stage 8 for Windows.
func (k *walk) windowsSystem(a *Attempt, home spot, path string) ending {
	v, p, d := home.volume(), home.partition(), home.drive
	cited := d.cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", p.Type.Name, v.Kind), p.Source)
	if k.lostPart(a, home) {
		return ending{Blocks, home}
	}
	switch {
	case v.Kind == volume.NotCaptured || v.FilesErr != nil && v.Files == nil && isMissing(v):
		end := a.unproven(StageSystem, "The system's partition is not in evidence.", howCapture, cited)
		end.home = home
		return end
	case v.Kind == volume.KindBitLocker:
		if !k.w.yes(unknownBool, Question{ID: "recovery-key:" + d.Name, Stage: StageSystem, Drive: d.Name,
			Text: "The system's partition is encrypted. Was the encryption suspended before the copy, or is the recovery key at hand?",
			How:  "In the old system: manage-bde -status. The key is in the owner's account, a printout or the directory service."}) {
			return a.stop(StageSystem, screenKey, "The system's partition is encrypted, and the key that unlocks it without asking belongs to the old disk.", cited)
		}
	case v.Kind != volume.KindNTFS:
		return a.stop(StageSystem, screenUnmountable, fmt.Sprintf("The system's partition %d holds no NTFS volume but %s.", p.Number, v.Kind), cited)
	case v.Files == nil:
		return a.stop(StageSystem, screenUnmountable, fmt.Sprintf("The NTFS volume in partition %d cannot be read.", p.Number), append(k.volumeFacts(home), cited)...)
	default:
		if there, known := v.holds(path); known && !there {
			return a.stop(StageSystem, screenNoLoader, fmt.Sprintf("%s is not on partition %d.", path, p.Number), cited)
		} else if !known && path != "" {
			end := a.unproven(StageSystem, path+" is not in evidence.", howCapture, cited)
			end.home = home
			return end
		}
	}
	if !k.driver(a, home, "Windows", screenNoDriver) {
		return ending{Blocks, home}
	}
	return k.comesUp(a, home, "Windows")
}

func (k *walk) volumeFacts(at spot) []Fact {
	var facts []Fact
	for _, q := range at.volume().Problems {
		facts = append(facts, problemFact(q, at.drive.Name))
	}
	return facts
}
