package linux

import (
	"fmt"
	"strings"

	"latchkey/core/course"
	"latchkey/core/fact"
	"latchkey/core/loader"
	"latchkey/core/machine"
)

// BareKernel follows a kernel that the firmware starts without a boot loader: the boot entry
// gives it its line, in which initrd= names files on the kernel's own volume. The kernel's
// admin-guide/efi-stub.
func BareKernel(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found) course.Result {
	options, known := given(k, a)
	cited := machine.Fact{Label: "Line of the boot entry", Value: options, Source: fact.Source{Origin: fact.Text}}
	if !known {
		return a.Unproven("options-missing-evidence", course.StageConfiguration,
			fmt.Sprintf("%s is a Linux kernel, and what the boot entry gives it is not in evidence.", f.Path),
			"In a running Linux: efibootmgr --verbose shows it behind the path.", cited)
	}
	line := kernelLine{linux: f.Path, options: options, root: loader.RootOf(options), cited: cited,
		gone: course.StubNoFile}
	for _, name := range loader.KernelOptions(options, "initrd") {
		line.initrds = append(line.initrds, "/"+strings.TrimLeft(strings.ReplaceAll(name, `\`, "/"), "/"))
	}
	line.bare = len(line.initrds) == 0
	if end := holdsFiles(a, at, line, line.initrds); end != nil {
		return *end
	}
	if end := loadsRAMDisks(k, a, at, &line); end != nil {
		return *end
	}
	return root(k, a, at.Drive, line)
}

// UnifiedKernel follows a kernel that holds its own command line and initial RAM disk. What a
// boot entry of the firmware gives it counts instead where secure boot is off, or it holds no
// line. systemd-stub(7), "Description".
func UnifiedKernel(k *course.Walk, a *course.Attempt, at machine.Spot, f loader.Found, byFirmware bool) course.Result {
	u := f.Program.Unified
	if u == nil {
		return a.Unproven("entries-missing-evidence", course.StageConfiguration, f.Path+" is not in evidence.",
			course.HowCapture)
	}
	options := u.Options
	if byFirmware {
		said, known := given(k, a)
		secure, told := k.Machine.Firmware.SecureBoot.Get()
		switch {
		case known && said == "" || told && secure && u.Options != "":
		case !known, !told && u.Options != "":
			return a.Unproven("options-missing-evidence", course.StageConfiguration,
				fmt.Sprintf("Whether %s goes by its own line or by that of the boot entry is not in evidence.", f.Path),
				"In a running Linux: efibootmgr --verbose shows the entry's line behind the path; mokutil --sb-state shows whether secure boot is on.")
		default:
			options = said
		}
	}
	where := fact.Source{Origin: fact.Bytes, Structure: f.Path, Field: "header", Offset: at.Base() + max(0, f.Header),
		Length: 96}
	line := kernelLine{linux: f.Path, options: options, root: loader.RootOf(options),
		bare: !u.RAMDisk, cited: at.Drive.Cite(f.Path, options, where)}
	if u.RAMDisk {
		if end := unbroken(a, at, "The initial RAM disk in "+f.Path, u.Drivers, line.cited); end != nil {
			return *end
		}
		line.holds(u.Drivers, at.Drive.Cite(f.Path, "", where))
	}
	return root(k, a, at.Drive, line)
}

// given is what the boot entry that is followed gives to its program; what the firmware finds
// by itself is given nothing.
func given(k *course.Walk, a *course.Attempt) (options string, known bool) {
	if a.Entry == "" {
		return "", true
	}
	if all := k.Machine.Firmware.Entries; all != nil {
		for _, e := range all.All {
			if e.Name() == a.Entry {
				return e.Options, !e.OptionsOpen
			}
		}
	}
	return "", false
}
