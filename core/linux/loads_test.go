package linux_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/course"
	"latchkey/core/disk"
	"latchkey/core/firmware"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
	"latchkey/internal/diskmaker"
	"latchkey/internal/sample"
)

// cutKernel is a kernel for PCs that has half of what its header tells of. The kernel's arch/x86/boot.
func cutKernel() string {
	b := make([]byte, 2048)
	b[0x1F1] = 1
	binary.LittleEndian.PutUint32(b[0x1F4:], 200)
	copy(b[0x1FE:], "\x55\xAA\xEB\x66HdrS\x0F\x02")
	return string(b)
}

// holding has a file in a partition, be it empty, and leaves the other disk as it is.
func holding(d diskmaker.Disk, partition int, file, text string) diskmaker.Disk {
	d.Partitions = slices.Clone(d.Partitions)
	files := maps.Clone(d.Partitions[partition].Volume.Files)
	files[file] = []byte(text)
	d.Partitions[partition].Volume.Files = files
	return d
}

var (
	notIt  = strings.Repeat("not this file.\n", 400)
	blanks = string(make([]byte, 9000))
)

// judged is how a disk starts alone, with every Linux' kernel without a RAM disk of its own.
func judged(t *testing.T, mode firmware.Mode, d diskmaker.Disk) startup.Trace {
	return startup.Simulate(sample.Whole(mode, sample.Drive(t, machine.RoleClone, d.MustBuild())))
}

// What is there by its name, and is not what is loaded. The ends were seen in real firmware, with GRUB,
// systemd-boot and Syslinux (package truth, "spoilt").
func TestWhatIsLoadedIsLookedInto(t *testing.T) {
	entries := sample.LinuxDisk(1, 1)
	entries.Partitions[0].Volume.Files = map[string][]byte{sample.FallbackPath: diskmaker.Program{Is: "systemd-boot"}.Bytes(),
		"/vmlinuz": sample.X64(), "/initrd.img": diskmaker.RAMDisk(),
		"/loader/entries/a.conf": []byte("title x\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=root\n")}
	const kernel, ram = "boot/vmlinuz", "boot/initrd.img"
	byPart := holding(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg",
		"menuentry 'x' {\n linux /boot/vmlinuz root=PARTUUID="+sample.LinuxDisk(1, 1).PartitionGUID(1).String()+"\n initrd /boot/initrd.img\n}\n")
	several := func(first, second string) diskmaker.Disk {
		d := holding(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg",
			"menuentry 'x' {\n linux /boot/vmlinuz root=LABEL=root\n initrd /boot/microcode /boot/initrd.img\n}\n")
		return holding(holding(d, 1, "boot/microcode", first), 1, ram, second)
	}
	sound := string(diskmaker.RAMDisk())
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		verdict startup.Verdict
		rule    course.Rule
		shows   course.SymptomID
	}{
		"a kernel that is empty":           {holding(sample.LinuxDisk(1, 1), 1, kernel, ""), startup.Stops, "kernel-unsound", course.GRUBBadKernel.ID},
		"a kernel of zeros":                {holding(sample.LinuxDisk(1, 1), 1, kernel, blanks), startup.Stops, "kernel-unsound", course.GRUBBadKernel.ID},
		"a kernel that is a text":          {holding(sample.LinuxDisk(1, 1), 1, kernel, notIt), startup.Stops, "kernel-unsound", course.GRUBBadKernel.ID},
		"a kernel that is cut off":         {holding(sample.LinuxDisk(1, 1), 1, kernel, cutKernel()), startup.Stops, "kernel-cut", course.KernelSilent.ID},
		"an entry's kernel, empty":         {holding(entries, 0, "/vmlinuz", ""), startup.Stops, "kernel-unsound", course.StubBadKernel.ID},
		"an entry's kernel, cut off":       {holding(entries, 0, "/vmlinuz", cutKernel()), startup.Stops, "kernel-unsound", course.StubBadKernel.ID},
		"an entry's RAM disk, empty":       {holding(entries, 0, "/initrd.img", ""), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
		"a RAM disk that is empty":         {holding(sample.LinuxDisk(1, 1), 1, ram, ""), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
		"a RAM disk of zeros":              {holding(sample.LinuxDisk(1, 1), 1, ram, blanks), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
		"a RAM disk that is a text":        {holding(sample.LinuxDisk(1, 1), 1, ram, notIt), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
		"a RAM disk that is a program":     {holding(sample.LinuxDisk(1, 1), 1, ram, string(sample.X64())), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
		"a RAM disk of the old kind":       {holding(sample.LinuxDisk(1, 1), 1, ram, "hsqs"+blanks), startup.Depends, "ram-disk-volume", ""},
		"none that is needed for the root": {holding(byPart, 1, ram, ""), startup.Depends, "ram-disk-hollow", ""},
		"two RAM disks":                    {several(sound, sound), startup.Starts, "", ""},
		"the first of two is empty":        {several("", sound), startup.Starts, "ram-disk-empty", ""},
		"the first of two is a text":       {several(notIt, sound), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
		"the second of two is empty":       {several(sound, ""), startup.Stops, "ram-disk-hollow", course.RootPanic.ID},
	} {
		t.Run(name, func(t *testing.T) {
			trace := judged(t, firmware.UEFI, c.disk)
			assert.Equal(t, c.verdict, trace.Verdict, trace.Reason)
			if c.rule == "" {
				assert.Empty(t, rules(trace))
				return
			}
			assert.Contains(t, rules(trace), c.rule)
			if c.verdict == startup.Stops {
				assert.Equal(t, c.shows, trace.SymptomID)
			}
		})
	}
	asked := judged(t, firmware.UEFI, holding(byPart, 1, ram, "")).Missing
	require.Len(t, asked, 1)
	assert.Contains(t, asked[0].Text, "the drivers of the drive and of its root's file system built in")
	m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, holding(byPart, 1, ram, "").MustBuild()))
	m.Answers = map[string]string{asked[0].ID: "yes"}
	assert.NotEqual(t, startup.Stops, startup.Simulate(m).Verdict)
}

// GRUB falls back from a kernel that it refuses; one that it has started is not come back from.
func TestAFallbackBehindAKernelThatIsNone(t *testing.T) {
	menu := "set default=0\nset fallback=1\nmenuentry 'a' {\n linux /boot/other root=LABEL=root\n initrd /boot/initrd.img\n}\n" +
		"menuentry 'b' {\n linux /boot/vmlinuz root=LABEL=root\n initrd /boot/initrd.img\n}\n"
	d := holding(sample.LinuxDisk(1, 1), 1, "boot/grub/grub.cfg", menu)
	refused := judged(t, firmware.UEFI, holding(d, 1, "boot/other", notIt))
	assert.Equal(t, startup.Starts, refused.Verdict)
	assert.Contains(t, rules(refused), course.Rule("default-falls-back"))
	assert.Equal(t, startup.Stops, judged(t, firmware.UEFI, holding(d, 1, "boot/other", cutKernel())).Verdict)
}

// The bytes that show it are cited: of a file that has none, what tells of it.
func TestWhatIsLoadedIsCited(t *testing.T) {
	for file, of := range map[string]string{"": "inode", blanks: "/boot/initrd.img"} {
		d := holding(sample.LinuxDisk(1, 1), 1, "boot/initrd.img", file)
		image := d.MustBuild()
		trace := judged(t, firmware.UEFI, d)
		last := trace.Attempts[0].Steps[len(trace.Attempts[0].Steps)-1]
		require.NotEmpty(t, last.Facts)
		cited := last.Facts[0].Source
		assert.Contains(t, cited.Structure, of)
		raw := make([]byte, cited.Length)
		_, err := image.ReadAt(raw, cited.Offset)
		require.NoError(t, err)
		if file != "" {
			assert.True(t, bytes.Equal(raw, make([]byte, len(raw))), "the zeros themselves")
		}
	}
}

// lacking is a disk of which a stretch is not in evidence.
type lacking struct {
	io.ReaderAt
	from, length int64
}

func (l lacking) ReadAt(p []byte, off int64) (int, error) {
	if off < l.from+l.length && l.from < off+int64(len(p)) {
		return 0, &disk.NotCaptured{Offset: off, Length: int64(len(p))}
	}
	return l.ReaderAt.ReadAt(p, off)
}

// Without the first bytes of what is loaded nothing is said of it.
func TestWhatIsLoadedAndNotInEvidence(t *testing.T) {
	d := sample.LinuxDisk(1, 1)
	for _, part := range []struct{ at, magic string }{{"boot/initrd.img", "070701"}, {"boot/vmlinuz", "MZ"}} {
		image := d.MustBuild()
		place := sample.Examine(t, image).Layout.Partitions[1]
		raw := make([]byte, place.Length*512)
		_, err := image.ReadAt(raw, int64(place.Start*512))
		require.NoError(t, err)
		content := d.Partitions[1].Volume.Files[part.at]
		at := int64(bytes.Index(raw, content))
		require.Positive(t, at)
		opened, err := disk.New(lacking{image, int64(place.Start*512) + at, 512}, image.Size, image.SectorSize)
		require.NoError(t, err)
		m := sample.Whole(firmware.UEFI, sample.Drive(t, machine.RoleClone, nil))
		m.Drives[0].Contents = machine.Examine(opened)
		trace := startup.Simulate(m)
		assert.Equal(t, startup.Depends, trace.Verdict, part.at)
		assert.Contains(t, rules(trace), course.Rule("payload-missing-evidence"), part.at)
	}
	var none loader.Payload
	assert.Empty(t, none.NoKernel())
}

// What the start passes control to is a program, where the initial RAM disk chooses it. The kernel's
// init/main.c; Debian's initramfs-tools, init.
func TestTheFirstProgramIsOne(t *testing.T) {
	script, elf := "#!/bin/sh\n", "\x7fELF"+blanks
	root := "root=UUID=01000000-0000-0000-0000-000000000000"
	own := func(d diskmaker.Disk) diskmaker.Disk {
		menu := string(d.Partitions[1].Volume.Files["boot/grub/grub.cfg"])
		return holding(d, 1, "boot/grub/grub.cfg", strings.Replace(menu, root, root+" init=/own", 1))
	}
	for name, c := range map[string]struct {
		disk    diskmaker.Disk
		verdict startup.Verdict
	}{
		"a script":                             {holding(sample.LinuxDisk(1, 1), 1, "sbin/init", script), startup.Starts},
		"a program":                            {holding(sample.LinuxDisk(1, 1), 1, "sbin/init", elf), startup.Starts},
		"empty":                                {holding(sample.LinuxDisk(1, 1), 1, "sbin/init", ""), startup.Stops},
		"of zeros":                             {holding(sample.LinuxDisk(1, 1), 1, "sbin/init", blanks), startup.Stops},
		"the next":                             {holding(holding(sample.LinuxDisk(1, 1), 1, "sbin/init", script), 1, "bin/sh", ""), startup.Starts},
		"another one named":                    {own(holding(holding(sample.LinuxDisk(1, 1), 1, "sbin/init", ""), 1, "own", script)), startup.Starts},
		"another one named, that is not there": {own(holding(sample.LinuxDisk(1, 1), 1, "sbin/init", "")), startup.Stops},
	} {
		trace := judged(t, firmware.UEFI, c.disk)
		assert.Equal(t, c.verdict, trace.Verdict, "%s: %s", name, trace.Reason)
		if c.verdict == startup.Stops {
			assert.Equal(t, course.NoInit.ID, trace.SymptomID, name)
			assert.Equal(t, []course.Rule{"first-program-unsound"}, rules(trace), name)
		}
	}
}

// A RAM disk that is cut off begins as it should: what tells is the original's.
func TestARAMDiskThatIsShorterThanTheOriginals(t *testing.T) {
	ram := string(diskmaker.RAMDisk())
	with := func(role machine.Role, id byte, text string) machine.Drive {
		return sample.Drive(t, role, holding(sample.LinuxDisk(id, id), 1, "boot/initrd.img", text).MustBuild())
	}
	for clone, tells := range map[string]bool{ram: true, ram + ram: false} {
		was := with(machine.RoleOriginal, 2, ram+ram)
		trace := startup.Simulate(sample.Whole(firmware.UEFI, with(machine.RoleClone, 1, clone), was))
		assert.Equal(t, startup.Starts, trace.Verdict, trace.Reason)
		assert.Equal(t, tells, slices.Contains(rules(trace), course.Rule("ram-disk-shorter")))
	}
}
