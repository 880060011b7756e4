package volume

import "strings"

// names are what the systems call the kinds of volume: the kernel's and blkid's
// names (libblkid's superblocks), Windows' and the Mac's.
var names = map[string]Kind{
	"vfat": KindFAT, "fat": KindFAT, "msdos": KindFAT, "ms-dos": KindFAT, "fat12": KindFAT12, "fat16": KindFAT16, "fat32": KindFAT32,
	"exfat": KindExFAT, "ntfs": KindNTFS, "ext2": KindExt, "ext3": KindExt, "ext4": KindExt, "bitlocker": KindBitLocker,
	"swap": KindSwap, "linux-swap(v1)": KindSwap, "linux-swap": KindSwap, "crypto_luks": KindLUKS, "luks": KindLUKS, "lvm2_member": KindLVM,
	"linux_raid_member": KindRAID, "btrfs": KindBtrfs, "xfs": KindXFS, "hfsplus": KindHFS, "hfs+": KindHFS, "hfs": KindHFS, "apfs": KindAPFS,
	"apple_apfs": KindAPFS, "apple_hfs": KindHFS, "efi": KindFAT,
	"f2fs": KindF2FS, "jfs": KindJFS, "reiserfs": KindReiser, "bcachefs": KindBcachefs, "bcache": KindBcache, "zfs_member": KindZFS,
}

// Named returns the kind that a system calls by a name.
func Named(name string) (Kind, bool) {
	k, ok := names[strings.ToLower(strings.TrimSpace(name))]
	return k, ok
}
