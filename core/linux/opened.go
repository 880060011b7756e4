package linux

import (
	"fmt"
	"slices"
	"strings"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// toOpen is an option of the kernel line that has the initial RAM disk open something, and what makes those
// that go by it.
type toOpen struct {
	name string
	spec func(value string) (loader.Spec, bool)
	by   []machine.Tool
}

// opening are these options. dracut.cmdline(7), "rd.luks.uuid", "rd.lvm.lv", "rd.md.uuid";
// systemd-cryptsetup-generator(8), for the hooks of mkinitcpio; initramfs-tools(7) knows none of them.
var opening = []toOpen{
	{"rd.luks.uuid", luksSpec, []machine.Tool{machine.Dracut, machine.Mkinitcpio}},
	{"rd.luks.name", luksSpec, []machine.Tool{machine.Dracut, machine.Mkinitcpio}},
	{"cryptdevice", cryptDevice, []machine.Tool{machine.Mkinitcpio}},
	{"rd.lvm.lv", machine.LVMSpec, []machine.Tool{machine.Dracut}},
	{"rd.md.uuid", arraySpec, []machine.Tool{machine.Dracut}},
}

// makers are what may have made the initial RAM disk of a system.
func makers(home machine.Spot) (may []machine.Tool) {
	for _, tool := range []machine.Tool{machine.UpdateInitramfs, machine.Dracut, machine.Mkinitcpio} {
		if has, known := home.Drive.Contents.Tool(home.Address(), tool).Get(); has || !known {
			may = append(may, tool)
		}
	}
	return may
}

// opens checks the containers that the kernel line has the initial RAM disk open before it looks for the
// root.
func opens(k *course.Walk, a *course.Attempt, line kernelLine) *course.Result {
	for _, o := range opening {
		for _, value := range loader.KernelOptions(line.options, o.name) {
			s, ok := o.spec(value)
			if !ok {
				continue
			}
			if hits, known := find(k, a, s); known && len(hits) == 0 {
				if end := o.absent(k, a, value, s, line); end != nil {
					return end
				}
			}
		}
	}
	return nil
}

// absent ends a start whose kernel line has something opened that no attached disk carries, where the
// initial RAM disk goes by that.
func (o toOpen) absent(k *course.Walk, a *course.Attempt, value string, s loader.Spec, line kernelLine) *course.Result {
	text := fmt.Sprintf("The kernel line, by %s=%s, has the initial RAM disk open the %s, which no attached disk carries", o.name, value, s)
	if line.root != nil {
		if hits, _ := seen(k, a, *line.root); len(hits) > 0 {
			may := makers(hits[0])
			goes := func(by machine.Tool) bool { return slices.Contains(o.by, by) }
			switch {
			case len(may) > 0 && !slices.ContainsFunc(may, goes):
				return nil
			case len(may) == 0 || slices.ContainsFunc(may, func(by machine.Tool) bool { return !goes(by) }):
				end := a.Unproven("container-absent", course.StageConfiguration,
					text+": whether it goes by that hangs on what made it.", course.HowTry, line.cited)
				return &end
			}
		}
	}
	end := a.Stop("container-absent", course.StageConfiguration, course.RootWait, text+".", line.cited)
	return &end
}

func luksSpec(value string) (loader.Spec, bool) {
	value, _, _ = strings.Cut(strings.TrimPrefix(value, "luks-"), "=")
	return loader.Spec{Kind: loader.ByContainer, Value: value}, machine.IsID(value)
}

// cryptDevice reads cryptdevice=DEVICE:NAME.
func cryptDevice(value string) (loader.Spec, bool) {
	device, _, _ := strings.Cut(value, ":")
	s := loader.ParseSpec(device)
	if s.Kind == loader.ByFSUUID {
		return loader.Spec{Kind: loader.ByContainer, Value: s.Value}, true
	}
	return s, s.Kind != loader.ByOther
}

// arraySpec reads the identifier of a RAID, with whatever stands between its digits.
func arraySpec(value string) (loader.Spec, bool) {
	return loader.Spec{Kind: loader.ByArray, Value: value}, machine.IsID(value)
}

// assembled asks whether the initial RAM disk puts the RAID together that the root lies in: that of dracut
// does so with those alone that the kernel line names, or with all where it says so. dracut.cmdline(7),
// "rd.md.uuid", "rd.auto"; as a real one showed (package truth, "dracut, root on one half of a mirror").
func assembled(k *course.Walk, a *course.Attempt, home machine.Spot, line kernelLine) *course.Result {
	c := home.Drive.Contents.Volumes[home.Index].Container
	if c == nil || c.Level == "" || line.bare {
		return nil
	}
	if may := makers(home); len(may) > 0 && !slices.Contains(may, machine.Dracut) {
		return nil
	}
	named := loader.KernelOptions(line.options, "rd.md.uuid")
	if slices.ContainsFunc(named, func(id string) bool { return machine.SameID(id, c.Set) }) ||
		len(named) == 0 && loader.KernelSwitch(line.options, "rd.auto", false) {
		return nil
	}
	if k.World.Yes(course.UnknownBool, course.Question{
		ID: "assembles:" + home.Drive.Name, Stage: course.StageSystem, Drive: home.Drive.Name,
		Text: "Does the initial RAM disk put the RAID together that the root lies in? The kernel line does not name it by rd.md.uuid=, without which that of dracut does not, unless a file in it does.",
		How:  "In the system, or the original's: lsinitrd | grep cmdline.d shows such files, lsinitrd -f etc/cmdline.d/90mdraid.conf what is in one. An initial RAM disk of another maker than dracut does.",
	}) {
		return nil
	}
	end := a.Stop("raid-not-assembled", course.StageConfiguration, line.unfound(),
		fmt.Sprintf("The root lies in a RAID, %s, and the initial RAM disk does not put it together: the kernel line does not name it.",
			home.Called()), line.cited)
	return &end
}
