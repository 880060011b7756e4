package linux_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/course"
	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// withEntries is a Linux whose menu is a script that lists entries of the Boot Loader Specification; their
// lines by their names. One of them, "old", names a root that is gone.
func withEntries(script, env string, lines map[string]string) diskmaker.Disk {
	d := sample.With(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", script)
	if env != "" {
		d = sample.With(d, 1, "boot/grub/grubenv", "# GRUB Environment Block\n"+env+strings.Repeat("#", 1000-len(env)))
	}
	for name, options := range lines {
		d = sample.With(d, 1, "boot/loader/entries/"+name+".conf", "title Title of "+name+"\nversion 1\nlinux /boot/vmlinuz\ninitrd /boot/initrd.img $tuned_initrd\noptions "+
			options+"\n")
	}
	return d
}

// The menu that blscfg makes: its entries stand where the command stands, the newest first, named by their
// files; what their lines name by variables is filled in. As the families that have it ship it; common
// practice, no source.
func TestAMenuOfEntriesBesideTheScript(t *testing.T) {
	const sound, gone = "root=LABEL=root ro", "root=LABEL=gone ro"
	two := map[string]string{"b-2.0": sound, "a-1.0": gone, "c-3.0": gone}
	const settings = "if [ \"$grub_platform\" = efi ]; then\n menuentry 'Firmware' --id uefi-firmware {\n fwsetup\n }\nfi\n"
	const own = "menuentry 'own' --id own {\n linux /boot/vmlinuz root=LABEL=root\n initrd /boot/initrd.img\n}\n"
	const saved = "load_env\nset default=\"${saved_entry}\"\n"
	for name, c := range map[string]struct {
		script, env string
		lines       map[string]string
		want        startup.Verdict
		says        string
	}{
		"the one that the environment names":             {saved + "blscfg\n" + settings, "saved_entry=b-2.0\n", two, startup.Starts, ""},
		"by its title":                                   {"set default='Title of b-2.0'\nblscfg\n", "", two, startup.Starts, ""},
		"by its number, the newest first":                {"set default=1\nblscfg\n" + settings, "", two, startup.Starts, ""},
		"the first, where none is named":                 {"blscfg\n" + settings, "", two, startup.Stops, "gone"},
		"the first, where no entry has the name":         {"set default=else\nblscfg\n", "", two, startup.Stops, "gone"},
		"behind those of the script":                     {own + "set default=2\nblscfg\n", "", two, startup.Starts, ""},
		"before those of the script":                     {"set default=3\nblscfg\n" + own, "", two, startup.Starts, ""},
		"one of the script":                              {"set default=own\nblscfg\n" + own, "", two, startup.Starts, ""},
		"the environment cannot be read":                 {"load_env -f (hd9)/x\nset default=\"${saved_entry}\"\nblscfg\n", "", two, startup.Depends, "of those beside it"},
		"which one is open, and all have one root":       {"load_env -f (hd9)/x\nset default=\"${saved_entry}\"\nblscfg\n" + settings, "", map[string]string{"a": sound, "b": sound}, startup.Starts, ""},
		"a number behind what may be listed":             {settings + "set default=1\nblscfg\n", "", two, startup.Depends, "of those beside it"},
		"listed under a condition that is not known":     {"if [ $grub_platform = efi ]; then\n blscfg\nfi\n", "", two, startup.Depends, "of those beside it"},
		"nothing to list":                                {"blscfg\n", "", nil, startup.Stops, "no entry in /loader/entries"},
		"nothing to list, and the firmware's settings":   {"blscfg\n" + settings, "", nil, startup.Stops, "no entry in /loader/entries"},
		"nothing to list, and one of the script":         {"blscfg\n" + own, "", nil, startup.Starts, ""},
		"a line that is a variable":                      {"load_env\nblscfg\n", "kernelopts=" + sound + " quiet \n", map[string]string{"a": "$kernelopts $tuned_params"}, startup.Starts, ""},
		"a line that is a variable, in brackets":         {"set kernelopts='" + sound + "'\nblscfg\n", "", map[string]string{"a": "${kernelopts}"}, startup.Starts, ""},
		"a variable that names another root":             {"load_env\nblscfg\n", "kernelopts=" + gone + "\n", map[string]string{"a": "$kernelopts"}, startup.Stops, "gone"},
		"a variable that nobody sets":                    {"blscfg\n", "", map[string]string{"a": sound + " $tuned_params"}, startup.Starts, ""},
		"a variable of an environment that is not known": {"load_env -f (hd9)/x\nblscfg\n", "", map[string]string{"a": "$kernelopts"}, startup.Depends, "names no root"},
		"where the environment has none, the script's":   {"load_env\nif [ -z \"${kernelopts}\" ]; then\n set kernelopts=\"" + sound + "\"\nfi\nblscfg\n", "x=y\n", map[string]string{"a": "$kernelopts"}, startup.Starts, ""},
		"where the environment has one, not the script's": {"load_env\nif [ -z \"${kernelopts}\" ]; then\n set kernelopts=\"" + sound + "\"\nfi\nblscfg\n", "kernelopts=" + gone + "\n",
			map[string]string{"a": "$kernelopts"}, startup.Stops, "gone"},
	} {
		t.Run(name, func(t *testing.T) {
			d := withEntries(c.script, c.env, c.lines).MustBuild()
			trace := startup.Simulate(sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, d)))
			assert.Equal(t, c.want, trace.Verdict, "%s %s", trace.Headline, trace.Reason)
			assert.Contains(t, sample.Words(trace), c.says)
		})
	}
}

// The root's name is put right where it stands, in the environment, too.
func TestANameInTheEnvironmentIsPutRight(t *testing.T) {
	d := sample.Drive(t, machine.RoleClone, withEntries("load_env\nblscfg\n", "kernelopts=root=UUID=02000000-0000-0000-0000-000000000000 ro\n",
		map[string]string{"a": "$kernelopts"}).MustBuild())
	m := sample.Whole(firmware.UEFI, d)
	trace := startup.Simulate(m)
	assert.Equal(t, course.StageConfiguration, trace.Stage)
	root, ok := d.Contents.LinuxRoot()
	assert.True(t, ok)
	c := m.Drives[0].Contents
	m.Drives[0].Contents = c.WithNames(d.LinuxNames(0, root, nil))
	assert.Equal(t, startup.Starts, startup.Simulate(m).Verdict)
	assert.Equal(t, startup.Stops, trace.Verdict, "the disk that was is left as it was")
}
