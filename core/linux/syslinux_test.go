package linux_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/linux"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/internal/sample"
)

// Where a start by Syslinux ends, from its second stage on. Syslinux 6.04, doc/syslinux.txt; those that machines start
// are in package truth.
func TestEveryEndOfSyslinux(t *testing.T) {
	const folder = "/boot/syslinux"
	const text = "default l\nlabel l\n linux /boot/vmlinuz\n initrd /boot/initrd.img\n append root=LABEL=root\n"
	for name, c := range map[string]struct {
		change func(s *machine.SyslinuxStage, c *machine.Config)
		state  course.State
		rule   course.Rule
	}{
		"as it should be":  {func(*machine.SyslinuxStage, *machine.Config) {}, course.Passes, ""},
		"damaged":          {func(s *machine.SyslinuxStage, _ *machine.Config) { s.Sound = false }, course.Unproven, "syslinux-unread"},
		"of no version":    {func(s *machine.SyslinuxStage, _ *machine.Config) { s.Version = 0 }, course.Unproven, "syslinux-unread"},
		"moved since":      {func(s *machine.SyslinuxStage, _ *machine.Config) { s.Folder = "/boot" }, course.Unproven, "syslinux-unread"},
		"its module":       {func(s *machine.SyslinuxStage, _ *machine.Config) { s.Version = 5 }, course.Unproven, "syslinux-module-missing-evidence"},
		"no configuration": {func(_ *machine.SyslinuxStage, c *machine.Config) { c.Kind = machine.ConfigFstab }, course.Blocks, "syslinux-no-menu"},
		"not in evidence":  {func(_ *machine.SyslinuxStage, c *machine.Config) { c.Err = &disk.NotCaptured{} }, course.Unproven, "menu-missing-evidence"},
		"cannot be read":   {func(_ *machine.SyslinuxStage, c *machine.Config) { c.Err = errors.New("damaged") }, course.Unproven, "menu-unread"},
		"not followed":     {func(_ *machine.SyslinuxStage, c *machine.Config) { c.Syslinux.Open = "a command" }, course.Unproven, "menu-unread"},
		"names nothing":    {func(_ *machine.SyslinuxStage, c *machine.Config) { c.Syslinux.Name = "" }, course.Blocks, "syslinux-no-default"},
		"a menu's module": {func(_ *machine.SyslinuxStage, c *machine.Config) {
			c.Syslinux.Modules = []string{folder + "/menu.c32"}
		}, course.Unproven, "syslinux-module-missing-evidence"},
		"a kernel that nobody looked for": {func(_ *machine.SyslinuxStage, c *machine.Config) { c.Entry.Linux = "/boot/other" },
			course.Unproven, "kernel-missing-evidence"},
	} {
		t.Run(name, func(t *testing.T) {
			d := sample.Drive(t, machine.RoleClone, sample.LinuxDisk(1, 1).MustBuild())
			v := &d.Contents.Volumes[1]
			v.Syslinux = &machine.SyslinuxStage{Path: folder + "/ldlinux.sys",
				Syslinux: loader.Syslinux{Version: 4, Folder: folder, Sound: true}}
			menu := loader.ParseSyslinux([]byte(text), folder)
			v.Configs = append(v.Configs, machine.Config{Kind: machine.ConfigSyslinux, Path: folder + "/syslinux.cfg",
				Syslinux: menu, Entry: &menu.Entry})
			c.change(v.Syslinux, &v.Configs[len(v.Configs)-1])
			m := sample.Whole(firmware.Legacy, d)
			k, a := &course.Walk{Machine: m, World: &course.World{}}, course.Attempt{}
			end := linux.Syslinux(k, &a, machine.Spot{Drive: &m.Drives[0], Index: 1})
			assert.Equal(t, c.state, end.State, "%+v", a.Steps)
			if c.rule != "" {
				assert.Equal(t, c.rule, a.Steps[len(a.Steps)-1].Rule)
			}
		})
	}
}
