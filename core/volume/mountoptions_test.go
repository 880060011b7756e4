package volume_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"latchkey/core/volume"
	"latchkey/internal/reference"
)

// What the kernel is asked with where an option wants a value.
var optionValues = map[string]string{"data": "ordered", "errors": "continue", "jqfmt": "vfsv0", "compress": "zstd", "compress-force": "zlib",
	"subvol": "/", "subvolid": "5", "space_cache": "v2", "allocsize": "64k", "logbufs": "8", "logbsize": "32k", "dax": "never", "fatal_errors": "bug",
	"data_err": "ignore", "rescue": "usebackuproot", "sunit": "64", "swidth": "64", "check": "none", "stripe": "0"}

// hangsOn are options that a kernel takes or not as it was made (quotas), by another device that they name, by
// others beside them, or by its age.
var hangsOn = strings.Fields(`quota usrquota grpquota prjquota uquota gquota pquota uqnoenforce qnoenforce gqnoenforce pqnoenforce usrjquota
	grpjquota barrier nobarrier jqfmt logdev rtdev device journal_dev journal_path journal_async_commit test_dummy_encryption noacl acl nouser_xattr user_xattr
	nologreplay nospace_cache dax sunit swidth`)

// Each option is taken by this kernel where it is the kind's own, and refused where it is another's.
func TestMountOptionsByTheKernel(t *testing.T) {
	reference.Need(t, "mount", "umount", "mkfs.ext4", "mkfs.xfs", "mkfs.btrfs")
	for kind, program := range map[volume.Kind][]string{volume.KindExt: {"mkfs.ext4", "-q", "-F"}, volume.KindXFS: {"mkfs.xfs", "-q"},
		volume.KindBtrfs: {"mkfs.btrfs", "-q"}} {
		t.Run(string(kind), func(t *testing.T) {
			image, dir := reference.Image(t, 320<<20), t.TempDir()
			reference.Run(t, "", program[0], append(program[1:], image)...)
			reference.Mounted(t, image, "", func(string) {}) // else this kernel mounts none of the kind
			takes := func(option string) bool {
				if exec.Command("mount", "-t", volume.MountedAs(kind), "-o", "loop,ro,"+option, image, dir).Run() != nil {
					return false
				}
				reference.Run(t, "", "umount", dir)
				return true
			}
			for _, option := range volume.EveryOption {
				if slices.Contains(hangsOn, option) || testing.Short() && len(option)%4 != 0 {
					continue
				}
				v := volume.Volume{Kind: kind}
				refused := volume.Refused(&v, "", option) != ""
				value := option
				if with, wants := optionValues[option]; wants {
					value += "=" + with
				}
				assert.Equal(t, !refused, takes(value) || takes(option+"=1") || takes(option), "%s with %s", kind, option)
				assert.Empty(t, volume.Doubtful(&v, "", option), option)
			}
		})
	}
}

// What is no option of any kind that is known is left open, and so is what a type is that nobody knows.
func TestWhatIsDoubtfulIsNotRefused(t *testing.T) {
	for _, c := range []struct {
		kind              volume.Kind
		features          uint32
		types, options    string
		refused, doubtful bool
	}{
		{volume.KindExt, 0x2c2, "ext4", "defaults,errors=remount-ro,x-systemd.device-timeout=5,X-mount.mkdir", false, false},
		{volume.KindExt, 0x2c2, "ext4", "bogus", false, true},
		{volume.KindExt, 0x2c2, "ext4", "umask=0077,bogus", true, true},
		{volume.KindExt, 0x2c2, "gone", "", false, true},
		{volume.KindExt, 0x2c2, "gone,auto", "", false, false},
		{volume.KindExt, 0x2c2, "noxfs", "", false, false},
		{volume.KindExt, 0x2c2, "udf,iso9660", "", true, false},
		{volume.KindExt, 0x2c2, "ext3", "", true, false},
		{volume.KindExt, 0x2c2, "ext2,ext4", "", false, false},
		{volume.KindExt, 0x6, "ext3", "", false, false},
		{volume.KindExt, 0x6, "ext2", "", true, false},
		{volume.KindExt, 0, "ext3", "", false, true},
		{volume.KindFAT32, 0, "vfat", "umask=0077,shortname=winnt,codepage=437,iocharset=ascii,utf8,errors=remount-ro", false, false},
		{volume.KindFAT16, 0, "vfat", "acl", true, false},
		{volume.KindNTFS, 0, "ntfs-3g", "uid=1000,windows_names", false, false},
		{volume.KindXFS, 0, "xfs", "noatime,nobarrier,inode64", false, true},
		{volume.KindXFS, 0, "xfs", "errors=remount-ro", true, false},
		{volume.KindSwap, 0, "auto", "", true, false},
		{volume.KindLUKS, 0, "ext4", "", true, false},
		{volume.KindZFS, 0, "zfs", "zfsutil", false, false},
		{volume.NotCaptured, 0, "ext4", "defaults", false, true},
		{volume.Unknown, 0, "ext4", "defaults", false, true},
	} {
		v := volume.Volume{Kind: c.kind, ExtFeatures: c.features}
		assert.Equal(t, c.refused, volume.Refused(&v, c.types, c.options) != "", c)
		if !c.refused {
			assert.Equal(t, c.doubtful, volume.Doubtful(&v, c.types, c.options) != "", c)
		}
	}
}
