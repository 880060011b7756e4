package linux_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/firmware"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// dracut's initial RAM disk puts the RAIDs together that it is told of: dracut.cmdline(7), "rd.md.uuid" and
// "rd.auto". That of Debian's initramfs-tools takes all: mdadm's hook.
func TestWhatPutsTheRAIDOfTheRootTogether(t *testing.T) {
	r := diskmaker.RAID{Version: "1.2", Level: 1}
	colons := diskmaker.RAIDUUID
	for _, c := range []struct {
		maker machine.Tool
		line  string
		want  startup.Verdict
		yes   startup.Verdict // where it is answered that the RAID is put together
	}{
		{machine.UpdateInitramfs, "", startup.Starts, startup.Starts},
		{machine.Mkinitcpio, " rd.md.uuid=00000000:00000000:00000000:00000000 rd.lvm.lv=gone/root", startup.Starts, startup.Starts},
		{machine.UpdateInitramfs, " rd.luks.uuid=00000000-0000-0000-0000-000000000000", startup.Starts, startup.Starts},
		{machine.Mkinitcpio, " rd.luks.uuid=00000000-0000-0000-0000-000000000000", startup.Stops, startup.Stops},
		{machine.Dracut, " rd.auto cryptdevice=UUID=00000000-0000-0000-0000-000000000000:x", startup.Starts, startup.Starts},
		{"", " rd.auto rd.lvm.lv=gone/root", startup.Depends, startup.Depends},
		{machine.Dracut, "", startup.Depends, startup.Starts},
		{"", "", startup.Depends, startup.Starts},
		{machine.Dracut, " rd.auto", startup.Starts, startup.Starts},
		{machine.Dracut, " rd.auto=1 rd.auto=0", startup.Depends, startup.Starts},
		{machine.Dracut, " rd.md.uuid=" + colons, startup.Starts, startup.Starts},
		{machine.Dracut, " rd.md.uuid=" + strings.ToUpper(strings.ReplaceAll(colons, ":", "")), startup.Starts, startup.Starts},
		{machine.Dracut, " rd.auto rd.md.uuid=00000000:00000000:00000000:00000000", startup.Stops, startup.Stops},
	} {
		n := newNested(t, "(mduuid/"+strings.NewReplacer("-", "", ":", "").Replace(diskmaker.RAIDUUID)+")/boot/grub", "UUID="+innerUUID+c.line)
		n.maker = c.maker
		raw, at := r.Superblock(inLength * 512)
		m := sample.Whole(firmware.UEFI, n.write(raw, at).system(r.DataOffset(), 100<<20).drive(machine.RoleClone))
		assert.Equal(t, c.want, startup.Simulate(m).Verdict, "%s%s", c.maker, c.line)
		m.Answers = map[string]string{"assembles:clone": "yes"}
		assert.Equal(t, c.yes, startup.Simulate(m).Verdict, "%s%s", c.maker, c.line)
	}
}
