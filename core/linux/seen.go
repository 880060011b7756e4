package linux

import (
	"fmt"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// seen is find as the system does it: what lies on a drive whose partition table the kernel does not
// take is not there.
func seen(k *course.Walk, a *course.Attempt, s loader.Spec) (hits []machine.Spot, known bool) {
	if s.Kind == loader.ByDevice {
		hits, known = findDevice(k, s)
		if len(hits) > 0 {
			if _, gone := unseen(k, hits[0].Drive); gone {
				return nil, true
			}
		}
		return hits, known
	}
	return k.Choose(a, s.String(), func(d *machine.Drive) ([]machine.Spot, bool) {
		found, known := d.Resolve(s)
		if len(found) > 0 {
			if _, gone := unseen(k, d); gone {
				return nil, true
			}
		}
		return found, known
	})
}

// nowhere says why the system finds nothing by a name.
func nowhere(k *course.Walk, a *course.Attempt, s loader.Spec) string {
	if hits, _ := find(k, a, s); len(hits) > 0 {
		return "lies on " + hits[0].Drive.Called() + ", and the kernel does not take its partition table"
	}
	return "no attached disk carries"
}

// unseen tells why the kernel takes no partitions from the table of a drive, though the firmware or the
// boot loader did.
func unseen(k *course.Walk, d *machine.Drive) (p disk.Problem, gone bool) {
	l := &d.Contents.Layout
	if p, gone = l.RefusedByLinux(); gone || l.Style != disk.StyleGPT || l.GPT == nil || l.GPT.Told() {
		return p, gone
	}
	damaged := func() disk.Problem {
		return disk.Problem{Text: "The primary partition table is damaged, and Linux does not go by the backup."}
	}
	switch g := l.GPT; {
	case g.Primary.State == disk.CopyNotCaptured:
		if !k.Evidence(d, course.StageTable, "gpt", "Is the primary partition table of "+d.Called()+" valid?",
			"Take a capture of "+d.Called()+", or add at least its first 34 sectors as evidence.") {
			return damaged(), true
		}
	case g.Primary.State != disk.CopyGood && g.Backup.State == disk.CopyGood:
		restored := k.Mode() == firmware.UEFI && k.Choice(firmware.RestoresGPT, course.StageTable, d, "")
		if !restored {
			return damaged(), true
		}
	}
	return p, false
}

// rootUnseen stops a start whose root lies on a drive of which the kernel takes no partitions; nil
// where it lies on none such.
func rootUnseen(k *course.Walk, a *course.Attempt, line kernelLine) *course.Result {
	if hits, _ := find(k, a, *line.root); len(hits) > 0 {
		return onUnseen(k, a, hits[0].Drive, line)
	}
	return nil
}

// onUnseen stops a start whose root lies on a drive, where the kernel takes no partitions of that.
func onUnseen(k *course.Walk, a *course.Attempt, d *machine.Drive, line kernelLine) *course.Result {
	p, gone := unseen(k, d)
	if !gone {
		return nil
	}
	facts := []machine.Fact{line.cited}
	if p.Source.Origin != "" {
		facts = append(facts, machine.ProblemFact(p, d.Name))
	}
	end := a.StopFor("root-unseen", course.StageConfiguration, line.unfound(),
		"Linux does not take the partition table of "+d.Called(),
		fmt.Sprintf("firmware and boot loader go by it all the same. The kernel looks for its root, by %s, in vain. %s", *line.root, p.Text),
		facts...)
	return &end
}
