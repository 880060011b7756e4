package linux_test

import (
	"strings"
	"testing"

	"latchkey/core/course"
	"latchkey/core/loader"
	"latchkey/core/machine"
	"latchkey/core/startup"
)

// What a kernel finds by itself, and what it is to mount; each was seen in a real Debian
// (package truth, "the kernel line").
func TestWhatTheKernelMounts(t *testing.T) {
	nowhere := loader.GRUBSearch{Spec: loader.Spec{Kind: loader.ByGRUBDisk, Value: "hd0,msdos2"}, Device: true}
	for name, c := range map[string]spoilt{
		"no initial RAM disk, and a root that a kernel cannot find": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Initrds = nil },
			"no-initial-ram-disk", startup.Depends, ""},
		"no initial RAM disk, and a root that a kernel finds": {func(d *machine.Drive) {
			e := &menu(d).GRUB.Entries[0]
			id := loader.PartUUID(&d.Contents.Layout, d.Contents.Layout.Partitions[1])
			e.Initrds, e.Options, e.Root = nil, "root=PARTUUID="+id, &loader.Spec{Kind: loader.ByPartUUID, Value: id}
		}, "", startup.Starts, ""},
		"no initial RAM disk, and no root": {func(d *machine.Drive) {
			menu(d).GRUB.Entries[0].Initrds, menu(d).GRUB.Entries[0].Root = nil, nil
		}, "no-initial-ram-disk", startup.Depends, ""},
		"the root in capitals": {func(d *machine.Drive) {
			e := &menu(d).GRUB.Entries[0]
			id := loader.PartUUID(&d.Contents.Layout, d.Contents.Layout.Partitions[1])
			e.Root = &loader.Spec{Kind: loader.ByPartUUID, Value: strings.ToUpper(id)}
		}, "root-in-other-letters", startup.Depends, ""},
		"a root that is set to nothing": {func(d *machine.Drive) {
			menu(d).GRUB.Entries[0].Searches = []loader.GRUBSearch{nowhere}
		}, "root-set-nowhere", startup.Stops, course.StageConfiguration},
		"a root that is set to nothing, and searched for": {func(d *machine.Drive) {
			e := &menu(d).GRUB.Entries[0]
			e.Searches = append([]loader.GRUBSearch{nowhere}, e.Searches...)
		}, "", startup.Starts, ""},
		"a root that is to be another file system": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Options += " rootfstype=xfs" },
			"root-refused", startup.Stops, course.StageSystem},
		"a root of one of several types": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Options += " rootfstype=xfs,ext4" },
			"", startup.Starts, ""},
		"a root of any type": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Options += " rootfstype=auto" }, "", startup.Starts, ""},
		"a subvolume of ext4": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Options += " rootflags=noatime,subvol=@" },
			"root-refused", startup.Stops, course.StageSystem},
		"a mount of another type": {func(d *machine.Drive) { fstab(d).Mounts[1].Type = "ext4" }, "mount-refused", startup.Stops,
			course.StageConfiguration},
		"a mount of a type that nobody knows": {func(d *machine.Drive) { fstab(d).Mounts[1].Type = "special" }, "mount-doubtful", startup.Depends, ""},
		"a mount with an option of another kind": {func(d *machine.Drive) { fstab(d).Mounts[1].Options = "acl" }, "mount-refused", startup.Stops,
			course.StageConfiguration},
		"a mount behind another unit": {func(d *machine.Drive) { fstab(d).Mounts[1].Options = "x-systemd.requires=gone.mount" },
			"mount-doubtful", startup.Depends, ""},
		"a mount with an option that nobody knows": {func(d *machine.Drive) { fstab(d).Mounts[1].Options = "bogus" }, "mount-doubtful",
			startup.Depends, ""},
		"a root with an option that nobody knows": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Options += " rootflags=bogus" },
			"root-doubtful", startup.Depends, ""},
		"a root as an older type": {func(d *machine.Drive) {
			menu(d).GRUB.Entries[0].Options += " rootfstype=ext3"
			d.Contents.Volumes[1].ExtFeatures = loader.ExtFeaturesUsual
		}, "root-refused", startup.Stops, course.StageSystem},
		"an image that is not there": {func(d *machine.Drive) {
			fstab(d).Mounts = append(fstab(d).Mounts, line("/gone.img /srv ext4 loop 0 0"))
		},
			"mount-doubtful", startup.Depends, ""},
		"an image that need not be there": {func(d *machine.Drive) {
			fstab(d).Mounts = append(fstab(d).Mounts, line("/gone.img /srv ext4 loop,nofail 0 0"))
		}, "", startup.Starts, ""},
		"mounts of no device": {func(d *machine.Drive) {
			for _, l := range []string{"/opt /srv none bind 0 0", "nas:/export /mnt nfs defaults 0 0", "//nas/share /mnt/b cifs user 0 0",
				"tmpfs /tmp tmpfs size=1g,mode=1777 0 0", "proc /proc proc defaults 0 0", "u@nas:/x /mnt/c fuse.sshfs defaults 0 0"} {
				fstab(d).Mounts = append(fstab(d).Mounts, line(l))
			}
		}, "", startup.Starts, ""},
		"a mount that is put together": {func(d *machine.Drive) {
			fstab(d).Mounts = append(fstab(d).Mounts, line("overlay /srv overlay lowerdir=/opt,upperdir=/a,workdir=/b 0 0"))
		}, "mount-doubtful", startup.Depends, ""},
		"a mount of no device with an option that nobody knows": {func(d *machine.Drive) {
			fstab(d).Mounts = append(fstab(d).Mounts, line("none /srv tmpfs bogus=1 0 0"))
		}, "mount-doubtful", startup.Depends, ""},
		"a root that is never made writable": {func(d *machine.Drive) { fstab(d).Mounts[0].Options = "umask=0077" },
			"root-stays-read-only", startup.Depends, ""},
		"a root that is writable from the beginning": {func(d *machine.Drive) {
			fstab(d).Mounts[0].Options, menu(d).GRUB.Entries[0].Options = "umask=0077", menu(d).GRUB.Entries[0].Options+" rw"
		}, "", startup.Starts, ""},
		"a system that is to be maintained": {func(d *machine.Drive) { menu(d).GRUB.Entries[0].Options += " single" },
			"maintenance-open", startup.Depends, ""},
		"a system that is to be maintained, and is not": {func(d *machine.Drive) {
			menu(d).GRUB.Entries[0].Options += " single systemd.unit=graphical.target"
		}, "", startup.Starts, ""},
		"a mount table that is not gone by": {func(d *machine.Drive) {
			fstab(d).Mounts[1].Spec = loader.ParseSpec("UUID=dead-beef")
			menu(d).GRUB.Entries[0].Options += " fstab=no"
		}, "root-stays-read-only", startup.Depends, ""},
		"a mount table that is not gone by, and a root that is writable": {func(d *machine.Drive) {
			fstab(d).Mounts[1].Spec = loader.ParseSpec("UUID=dead-beef")
			menu(d).GRUB.Entries[0].Options += " fstab=no rw"
		}, "", startup.Starts, ""},
		"a mount that another line has before": {func(d *machine.Drive) {
			again := fstab(d).Mounts[1]
			again.Spec, again.Again = loader.ParseSpec("UUID=dead-beef"), true
			fstab(d).Mounts = append(fstab(d).Mounts, again)
		}, "", startup.Starts, ""},
		"a mount in small letters": {func(d *machine.Drive) {
			d.Contents.Volumes[0].Serial = "ABCD-0001"
			fstab(d).Mounts[1].Spec.Value = "abcd-0001"
		}, "mount-in-other-letters", startup.Depends, ""},
		"GRUB's folder by a partition of the other kind of table": {func(d *machine.Drive) {
			core(d).Prefix = "(,msdos1)/EFI/debian"
		}, "prefix-absent", startup.Stops, course.StageConfiguration},
		"GRUB's folder by a partition of any table": {func(d *machine.Drive) { core(d).Prefix = "(,1)/EFI/debian" }, "",
			startup.Starts, ""},
		"GRUB's folder by a table that may lie beside": {func(d *machine.Drive) {
			core(d).Prefix, d.Contents.Layout.MBR = "(,msdos1)/EFI/debian", nil
		}, "prefix-unknown", startup.Depends, ""},
		"GRUB's folder within a partition of a partition": {func(d *machine.Drive) {
			core(d).Prefix = "(,gpt1,bsd1)/EFI/debian"
		}, "prefix-unknown", startup.Depends, ""},
		"a file system with a feature that GRUB does not take": {func(d *machine.Drive) {
			core(d).ExtFeatures = loader.ExtFeaturesUsual
			d.Contents.Volumes[1].ExtFeatures = loader.ExtFeaturesUsual | 0x2000
		}, "grub-lacks-feature", startup.Stops, course.StageConfiguration},
		"a file system with a feature that GRUB may take": {func(d *machine.Drive) {
			core(d).ExtOpen, d.Contents.Volumes[1].ExtFeatures = true, loader.ExtFeaturesUsual|0x2000
		}, "grub-reader-unknown", startup.Depends, ""},
		"a file system with a feature that no GRUB is known to take": {func(d *machine.Drive) {
			d.Contents.Volumes[1].ExtFeatures = 0x8000
		}, "grub-reader-unknown", startup.Depends, ""},
		"a file system with features that every GRUB takes": {func(d *machine.Drive) {
			core(d).ExtOpen, d.Contents.Volumes[1].ExtFeatures = true, loader.ExtFeaturesUsual
		}, "", startup.Starts, ""},
	} {
		t.Run(name, func(t *testing.T) { c.holds(t) })
	}
}

// line is a line of a mount table.
func line(text string) loader.Mount { return loader.ParseFstab([]byte(text))[0] }
