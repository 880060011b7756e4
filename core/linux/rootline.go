package linux

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/volume"
)

// rootStays asks whether the system makes its root writable, which the kernel mounted to be read alone. It
// goes by the root's line of the mount table c for that, nil for none: without one, or by one that names another,
// it comes up, and its root stays as it is. systemd-remount-fs.service(8); as real ones show (package truth,
// "coming up: the root's line"). Without one systemd may go by the type of the root's partition.
func rootStays(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine,
	c *machine.Config) *course.Result {
	if mountedToWrite(line) {
		return nil
	}
	why, cited, byType := "has no line for it", line.cited, false
	if lines := home.Drive.Contents.Mounts(home.Address(), "/"); c != nil && len(lines) > 0 {
		var open bool
		cited = citedMount(home, c, lines[0])
		switch why, open = remounts(k, a, home, lines[0]); {
		case why == "":
			return nil
		case open:
			return openAt(a, home, "root-line-doubtful", course.StageConfiguration, "The mount table "+why+".", course.HowTry, cited)
		}
	} else { // systemd-gpt-auto-generator(8)
		byType = home.Drive.Contents.Layout.Style != disk.StyleMBR &&
			home.Partition().Type != disk.GPTType(disk.TypeLinuxData)
	}
	text := fmt.Sprintf("The kernel mounts the root, %s, to be read alone, and the system makes it writable by its mount table, which %s", home.Called(), why)
	if is, known := bySystemd(home); !is || !known || byType {
		return openAt(a, home, "root-stays-read-only", course.StageConfiguration, text+": what the system does then is not known.",
			course.HowTry, cited)
	}
	end := a.StopFor("root-stays-read-only", course.StageConfiguration, course.ReadOnlyRoot,
		"The system comes up, and nothing can be written to its root", machine.LowerFirst(text)+".", cited)
	return &end
}

// remounts says why the root's line of the mount table does not let the root be mounted anew, with the line's
// options; open is set where that is not known. A tag is looked up for that; a device's path is not gone by
// then, nor is the type: the root's own mount is changed. mount(8), "remount"; as real ones show.
func remounts(k *course.Walk, a *course.Attempt, home machine.Spot, m loader.Mount) (why string, open bool) {
	if m.Tagged {
		hits, known := seen(k, a, m.Spec)
		switch {
		case len(hits) == 0 && !known:
			return fmt.Sprintf("names the root by %s: the evidence does not tell where that is", m.Spec), true
		case len(hits) == 0:
			return fmt.Sprintf("names it by %s, which %s", m.Spec, strings.TrimSuffix(nowhere(k, a, m.Spec), ".")), false
		}
		if written := otherLetters(hits[0], m.Spec); written != "" {
			return fmt.Sprintf("names it by %s, and that is called %s", m.Spec, written), false
		}
	}
	v := &home.Volume().Volume
	if why := volume.Refused(v, "", m.Options); why != "" {
		return "has it mounted " + why, v.Kind == volume.KindXFS // until Linux 5.6 a remount passed them over
	}
	if why := volume.Doubtful(v, "", m.Options); why != "" {
		return "has the root mounted " + why, true
	}
	return "", false
}
