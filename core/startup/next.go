package startup

import (
	"fmt"
	"strings"

	"latchkey/core/disk"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/volume"
)

// What follows the start of a loader: stages 7 and 8.

// ending is how far the start got behind its loader.
type ending struct {
	state State // Passes, Blocks or Unproven
	home  spot  // where the system lies, when it was found
}

// unproven ends the judgement for want of evidence; how says what would help.
func (a *Attempt) unproven(s Stage, text, how string, facts ...Fact) ending {
	a.Steps = append(a.Steps, Step{Stage: s, State: Unproven, Text: text, How: how, Facts: facts})
	return ending{state: Unproven}
}

// stop ends the start at a stage behind the loader, with what the screen shows.
func (a *Attempt) stop(s Stage, symptom, text string, facts ...Fact) ending {
	a.Symptom = symptom
	a.block(s, text, facts...)
	return ending{state: Blocks}
}

// Advice for what the evidence lacks.
const (
	howCapture = "Take a capture of the drive: it holds the boot configuration."
	howTry     = "Start the machine once with the clone alone, and look at which disk it came up from."
)

// afterLoader judges what the loader loads, and settles the outcome.
func (k *walk) afterLoader(o *outcome, a *Attempt) {
	d := k.drive(a.Drive)
	var end ending
	if cut, ok := d.cutSystem(); ok && k.m.Until == UntilSystem {
		end = k.cutOff(a, d, cut)
	} else {
		end = k.configuration(a, d)
	}
	switch {
	case end.state == Blocks:
		o.verdict, o.stage, o.symptom = Stops, a.last(), a.Symptom
	case end.home.drive != nil && end.home.drive.Role != RoleClone:
		o.verdict = StartsOriginal
	case end.state == Passes:
		o.verdict = Starts
	case a.Role != RoleClone:
		o.verdict = StartsOriginal // its loader was started; what follows is not in question here
	default:
		o.verdict = Depends
	}
}

func (k *walk) cutOff(a *Attempt, d *Drive, cut disk.Partition) ending {
	a.unproven(StageConfiguration, "The system that the configuration names is cut off.", "")
	return a.stop(StageSystem, "the loader's report that the system's device is missing or damaged, or the maker's sign without end.",
		fmt.Sprintf("The system's partition %d is cut off by the end of %s: sectors %d to %d do not exist.",
			cut.Number, d.called(), d.Contents.Layout.Sectors, cut.End()-1),
		d.cite("Last sector of partition "+fmt.Sprint(cut.Number), fmt.Sprint(cut.End()-1), cut.Source),
		Fact{Label: "Last sector of the disk", Value: fmt.Sprint(d.Contents.Layout.Sectors - 1), Source: fact.Source{Origin: fact.Computed, Drive: d.Name}})
}

// configuration judges stage 7 by what the loader is.
func (k *walk) configuration(a *Attempt, d *Drive) ending {
	at, ok := d.at(a.Partition)
	if a.Loader == LoaderGRUB {
		return k.grubFromCode(a, d)
	}
	if !ok {
		return a.unproven(StageConfiguration, "What the loader loads next is not in evidence.", howCapture)
	}
	switch a.Loader {
	case LoaderBootCode:
		return a.unproven(StageConfiguration, "The boot code in sector 0 is not a known one: what it loads cannot be told.", howTry)
	case LoaderBootSector:
		return k.legacyManager(a, at)
	case macLoader:
		return k.macSystem(a, at)
	}
	f, found := at.volume().find(a.Loader)
	switch is := f.Is(); {
	case !found && at.volume().config(ConfigStore, loader.StoreUEFI) != nil:
		return k.windows(a, at, loader.StoreUEFI, "efi") // a listing tells of the store, nothing of the loader
	case !found:
		return a.unproven(StageConfiguration, "The loader is not in evidence.", howCapture)
	case is == loader.WindowsManager:
		return k.windows(a, at, loader.StoreUEFI, "efi")
	case is == loader.Shim:
		return k.shim(a, at, f)
	case is == loader.GRUB:
		return k.grubProgram(a, at, f)
	case is == loader.SystemdBoot:
		return k.bootLoaderEntries(a, at)
	case f.Missing():
		return a.unproven(StageConfiguration, "The loader is not in evidence.", howCapture)
	}
	return a.unproven(StageConfiguration, a.Loader+" is none of the loaders that are known: what it loads cannot be told.", howTry)
}

// at returns a partition by its number.
func (d *Drive) at(number int) (spot, bool) {
	if d.Contents != nil {
		for i, p := range d.Contents.Layout.Partitions {
			if p.Number == number {
				return spot{d, i}, true
			}
		}
	}
	return spot{}, false
}

func (k *walk) legacyManager(a *Attempt, at spot) ending {
	switch v := at.volume(); {
	case v.LegacyManager == "bootmgr" || v.Told && v.config(ConfigStore, loader.StoreLegacy) != nil:
		return k.windows(a, at, loader.StoreLegacy, "exe")
	case v.LegacyManager != "":
		return a.unproven(StageConfiguration, `What \`+v.LegacyManager+" loads is not examined: it predates the boot configuration store.", howTry)
	case v.Kind == volume.NotCaptured || v.Files == nil:
		return a.unproven(StageConfiguration, "The files of the active partition are not in evidence.", howCapture)
	}
	return a.unproven(StageConfiguration, "The boot sector is not a known one: what it loads cannot be told.", howTry)
}

// choose settles which attached drive a name means. Two drives that both carry it
// are one question.
func (k *walk) choose(a *Attempt, what string, on func(*Drive) (found []int, known bool)) (hits []spot, known bool) {
	known = true
	for _, d := range k.drives() {
		found, ok := on(d)
		known = known && ok
		if len(found) > 0 {
			hits = append(hits, spot{d, found[0]})
		}
	}
	if len(hits) < 2 {
		return hits, known
	}
	q := Question{ID: "twin", Stage: StageConfiguration,
		Text: "Both attached drives carry the same identifiers. Which of them does the loader take?",
		How:  "Pull the original for the first start: the question is idle then.",
	}
	for _, h := range hits {
		q.Options = append(q.Options, Option{ID: h.drive.Name, Label: h.drive.called()})
	}
	picked := k.w.ask(q)
	for _, h := range hits {
		if h.drive.Name == picked {
			return []spot{h}, true
		}
	}
	return hits[:1], true
}

// takes notes that the loader goes on to a place, and whether that is another
// disk than it was started from.
func (a *Attempt) takes(d *Drive, to spot, text string, facts ...Fact) {
	state := Passes
	if to.drive != d && to.drive.Role != RoleClone {
		state = Wrong
		text += " That is " + to.drive.called() + "."
	}
	a.Steps = append(a.Steps, Step{Stage: StageConfiguration, State: state, Text: text, Facts: facts})
}

// newWay reports whether the system reaches its disk in another way than when it
// last ran, and names that way: another controller mode, or another bus.
func (k *walk) newWay(d *Drive) (name string, changed bool) {
	now, known := k.m.Firmware.StorageMode.Get()
	before, ok := k.m.Firmware.StorageModeBefore.Get()
	if known && ok && now != before {
		return "the controller's mode (" + strings.ToUpper(now) + ", before " + strings.ToUpper(before) + ")", true
	}
	bus, known := d.Bus.Get()
	was, had := k.originalBus()
	switch {
	case d.Role == RoleOriginal, known && had && was == bus:
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

func (k *walk) originalBus() (string, bool) {
	for i := range k.m.Drives {
		if k.m.Drives[i].Role == RoleOriginal {
			return k.m.Drives[i].Bus.Get()
		}
	}
	return "", false
}

// driver asks whether the system can reach its disk on the clone's bus.
// start-rules, stage 8.
func (k *walk) driver(a *Attempt, home spot, system, symptom string) bool {
	d := home.drive
	name, changed := k.newWay(d)
	if !changed {
		return true
	}
	if !k.w.yes(unknownBool, Question{
		ID: "driver:" + d.Name, Stage: StageSystem, Drive: d.Name,
		Text: fmt.Sprintf("Has %s on %s a driver for %s that it loads at start-up?", system, d.called(), name),
		How:  "A system that has run from such a drive before has it. One start in safe mode from the new drive loads it.",
	}) {
		a.stop(StageSystem, symptom, fmt.Sprintf("%s%s on %s has no start-up driver for %s.", strings.ToUpper(system[:1]), system[1:], d.called(), name))
		return false
	}
	return true
}

// lostPart reports a partition that the end of the disk cuts off.
func (k *walk) lostPart(a *Attempt, home spot) bool {
	p := home.partition()
	if !home.drive.Contents.Lost(p) {
		return false
	}
	a.stop(StageSystem, "a report that the system's device is damaged, or the maker's sign without end.",
		fmt.Sprintf("The system's partition %d is cut off by the end of %s.", p.Number, home.drive.called()),
		home.drive.cite("Last sector of partition "+fmt.Sprint(p.Number), fmt.Sprint(p.End()-1), p.Source))
	return true
}

// comesUp ends a start that reaches its system, with what is worth knowing.
func (k *walk) comesUp(a *Attempt, home spot, system string) ending {
	d, v, p := home.drive, home.volume(), home.partition()
	a.pass(StageSystem, fmt.Sprintf("%s comes up from partition %d of %s.", system, p.Number, d.called()),
		d.cite(fmt.Sprintf("Partition %d", p.Number), fmt.Sprintf("%s, %s", v.Kind, disk.Both(disk.Span(p.Length, d.Contents.Layout.SectorSize))), p.Source))
	if unclean, ok := v.Unclean.Get(); ok && unclean {
		a.risk("The file system was not closed cleanly: it is checked at the first start, which takes a while.", d.cite("Closed cleanly", "no", v.Unclean.Source()))
	}
	if asleep, ok := v.Hibernated.Get(); ok && asleep {
		a.risk("The system is asleep or was shut down with fast start-up: it wakes from a memory image made on the original. Shut it down fully before the copy.",
			d.cite("Sleep file", "live", v.Hibernated.Source()))
	}
	for _, q := range v.Problems {
		a.risk(q.Text, problemFact(q, d.Name))
	}
	return ending{Passes, home}
}
