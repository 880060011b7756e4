package linux

import (
	"fmt"
	"path"
	"strings"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/realmode"
)

// LeadsToSyslinux reports whether the boot sector of a partition passes control to the second
// stage of Syslinux that lies on its volume.
func LeadsToSyslinux(at machine.Spot) bool {
	v, c := at.Volume(), at.Drive.Contents
	run := v.Alone
	if c.Run != nil && c.Run.Then != nil {
		run = c.Run.Then
	}
	return v.Syslinux != nil && run != nil && run.End == realmode.PassesOn &&
		disk.Span(run.Sector, 512) == at.Base()+v.Syslinux.Offset
}

// Syslinux follows it from its second stage: the module, the configuration, and the kernel
// that this names. Syslinux 6.04, doc/syslinux.txt; the order of the folders as it ran.
func Syslinux(k *course.Walk, a *course.Attempt, at machine.Spot) course.Result {
	v := at.Volume()
	s := v.Syslinux
	switch {
	case !s.Sound || s.Version == 0 || !strings.EqualFold(path.Join("/", s.Folder), path.Dir(s.Path)):
		return a.Unproven("syslinux-unread", course.StageConfiguration,
			fmt.Sprintf("%s on %s is not as it was installed: what it does is not known.", s.Path, at.Called()),
			course.HowTry)
	case s.Version >= 5:
		if end := syslinuxModule(a, at); end != nil {
			return *end
		}
	}
	c := v.SyslinuxMenu()
	switch {
	case c == nil:
		return a.Stop("syslinux-no-menu", course.StageConfiguration, course.SyslinuxNoMenu,
			fmt.Sprintf("Neither extlinux.conf nor syslinux.cfg is beside %s on %s.", s.Path, at.Called()))
	case c.Missing():
		return a.Unproven("menu-missing-evidence", course.StageConfiguration,
			fmt.Sprintf("%s on %s is not in evidence.", c.Path, at.Called()), course.HowCapture)
	case c.Err != nil:
		return a.Unproven("menu-unread", course.StageConfiguration, fmt.Sprintf("%s cannot be read: %v.", c.Path, c.Err),
			course.HowTry)
	}
	if end := syslinuxFiles(a, at, c.Syslinux.Modules); end != nil {
		return *end
	}
	cited := at.Drive.Cite(fmt.Sprintf("%s, line %d", c.Path, c.Entry.Line), c.Entry.Title,
		c.Source(at.Base(), "options", c.Entry.Offset, c.Entry.Length))
	switch m := c.Syslinux; {
	case m.Open != "":
		return a.Unproven("menu-unread", course.StageConfiguration,
			fmt.Sprintf("What %s starts when nobody chooses is not followed: %s.", c.Path, m.Open), course.HowTry, cited)
	case m.Name == "":
		return a.Stop("syslinux-no-default", course.StageConfiguration, course.SyslinuxNoDefault,
			fmt.Sprintf("%s names nothing that is started when nobody chooses.", c.Path))
	}
	return kernel(k, a, at.Drive, at, kernelLine{linux: c.Entry.Linux, initrds: c.Entry.Initrds,
		options: c.Entry.Options, root: c.Entry.Root, cited: cited, gone: course.SyslinuxNoFile,
		bare: len(c.Entry.Initrds) == 0})
}

// syslinuxModule looks for the module that the second stage goes on with: beside it, else in
// the folders that it looks in next.
func syslinuxModule(a *course.Attempt, at machine.Spot) *course.Result {
	v := at.Volume()
	name := path.Join(path.Dir(v.Syslinux.Path), loader.SyslinuxModule)
	there, known := v.Holds(name)
	for _, folder := range machine.SyslinuxElsewhere {
		found, looked := v.Holds(path.Join(folder, loader.SyslinuxModule))
		there, known = there || found, known && (looked || there)
	}
	if there {
		return nil
	}
	return syslinuxLacks(a, known, course.SyslinuxNoModule, fmt.Sprintf("%s is not on %s.", name, at.Called()))
}

// syslinuxLacks ends the start where a file is known not to be there, and leaves it open else.
func syslinuxLacks(a *course.Attempt, known bool, shows course.Symptom, text string) *course.Result {
	var end course.Result
	if known {
		end = a.Stop("syslinux-no-module", course.StageConfiguration, shows, text)
	} else {
		end = a.Unproven("syslinux-module-missing-evidence", course.StageConfiguration,
			"Not in evidence, whether it is so: "+text, course.HowCapture)
	}
	return &end
}

// syslinuxFiles looks for the files that its menu is made of.
func syslinuxFiles(a *course.Attempt, at machine.Spot, files []string) *course.Result {
	for _, name := range files {
		if there, known := at.Volume().Holds(name); !there {
			return syslinuxLacks(a, known, course.SyslinuxNoMenuModule,
				fmt.Sprintf("%s, which the menu is drawn by, is not on %s.", name, at.Called()))
		}
	}
	return nil
}
