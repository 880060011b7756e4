package volume

import (
	"slices"
	"strings"
)

// anyOptions are the options that mount(8) or the kernel's VFS takes for every file system, or that a mount
// table has for the programs that read it. mount(8), "FILESYSTEM-INDEPENDENT MOUNT OPTIONS" and "THE
// LOOP-DEVICE SUPPORT"; fstab(5); systemd.mount(5), "Fstab". "group" and "owner" are mount's own.
var anyOptions = words(`async atime auto bind comment context defaults defcontext dev diratime dirsync exec fail fscontext
	group iversion lazytime loop loud mand move nofail noiversion noatime noauto nodev nodiratime noexec nolazytime
	nomand norelatime nostrictatime nosuid nosymfollow nouser offset owner private rbind relatime remount ro rootcontext
	rprivate rshared rslave rw shared silent sizelimit slave strictatime suid sync symfollow user users _netdev _rnetdev
	helper uhelper`)

// ownOptions are those of a kind of file system besides. ext4(5), xfs(5), btrfs(5); mount(8), "Mount options
// for fat" and "for vfat"; the kernel's filesystems/ext4/super and filesystems/vfat have the rest of them. The
// first three are held against a kernel (TestMountOptionsByTheKernel).
var ownOptions = map[Kind][]string{
	KindExt: words(`abort acl auto_da_alloc barrier block_validity bsddf bsdgroups commit data data_err dax debug
		delalloc dioread_lock dioread_nolock discard errors grpid grpjquota grpquota i_version init_itable
		inlinecrypt inode_readahead_blks jqfmt journal_async_commit journal_checksum journal_dev journal_ioprio journal_path
		max_batch_time max_dir_size_kb mb_optimize_scan min_batch_time minixdf noacl noauto_da_alloc nobarrier
		noblock_validity nodelalloc nodiscard nogrpid noinit_itable nojournal_checksum noload nombcache nomblk_io_submit no_mbcache
		nodioread_nolock noquota norecovery nouser_xattr nouid32 oldalloc orlov prjquota quota resgid resuid
		sb stripe sysvgroups test_dummy_encryption user_xattr usrjquota usrquota warn_on_error bh nobh check nocheck reservation
		noreservation mblk_io_submit`),
	KindXFS: words(`allocsize attr2 noattr2 dax discard nodiscard grpid bsdgroups nogrpid sysvgroups filestreams ikeep noikeep
		inode32 inode64 largeio nolargeio logbufs logbsize logdev rtdev noalign norecovery nouuid noquota uquota usrquota quota
		uqnoenforce qnoenforce gquota grpquota gqnoenforce pquota prjquota pqnoenforce sunit swidth swalloc wsync`),
	KindBtrfs: words(`acl noacl autodefrag noautodefrag barrier nobarrier clear_cache commit compress compress-force datacow
		nodatacow datasum nodatasum degraded device discard nodiscard enospc_debug noenospc_debug fatal_errors flushoncommit
		noflushoncommit max_inline metadata_ratio nologreplay norecovery rescan_uuid_tree rescue skip_balance
		space_cache nospace_cache ssd ssd_spread nossd nossd_spread subvol subvolid thread_pool treelog notreelog usebackuproot
		user_subvol_rm_allowed`),
	KindFAT: words(`uid gid umask dmask fmask allow_utime check codepage conv debug discard dos1xfloppy errors fat iocharset nfs tz
		time_offset quiet rodir showexec sys_immutable flush usefree dots nodots dotsOK utf8 uni_xlate posix nonumtail numtail
		shortname rodir cvf_format cvf_option blocksize nocase`),
}

func words(text string) []string { return strings.Fields(text) }

// everyOwn are the options of all kinds that are known.
var everyOwn = func() (all []string) {
	for _, own := range ownOptions {
		all = append(all, own...)
	}
	return all
}()

// onceOwn are options that older kernels took for a kind, and today's are said to refuse. The kernel's
// admin-guide/xfs, "Removed Mount Options".
var onceOwn = map[Kind][]string{KindXFS: words("barrier nobarrier delaylog nodelaylog ihashsize irixsgid osyncisdsync osyncisosync")}

// understood tells which of some options a kind of file system refuses, as they are those of others, and
// which nobody here knows; "" for none. A kind whose options are not known takes any.
func understood(k Kind, options string) (refused, unknown string) {
	own, known := ownOptions[family(k)]
	if !known {
		return "", ""
	}
	for option := range strings.SplitSeq(options, ",") {
		name, _, _ := strings.Cut(option, "=")
		switch {
		case general(name), slices.Contains(own, name):
		case slices.Contains(everyOwn, name) && !slices.Contains(onceOwn[k], name):
			return option, ""
		default:
			unknown = option
		}
	}
	return "", unknown
}

// ofTypes are the options of types that are mounted of no device. tmpfs(5).
var ofTypes = map[string][]string{"tmpfs": words("size nr_blocks nr_inodes mode gid uid huge mpol inode32 inode64 noswap")}

// UnknownOption is the option of a mount of no device of which it is not known whether its type takes it; ""
// for none, and for a type whose options are not known.
func UnknownOption(fsType, options string) string {
	own, known := ofTypes[fsType]
	if !known {
		return ""
	}
	for option := range strings.SplitSeq(options, ",") {
		if name, _, _ := strings.Cut(option, "="); !general(name) && !slices.Contains(own, name) {
			return option
		}
	}
	return ""
}

// general reports whether an option is one of every file system, or of those who read the mount table.
func general(name string) bool {
	return name == "" || strings.HasPrefix(strings.ToLower(name), "x-") || slices.Contains(anyOptions, name)
}

// family is the kind under which all widths of FAT are known.
func family(k Kind) Kind {
	if slices.Contains([]Kind{KindFAT12, KindFAT16, KindFAT32}, k) {
		return KindFAT
	}
	return k
}
