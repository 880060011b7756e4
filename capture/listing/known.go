package listing

import (
	"regexp"
	"slices"
)

// texts are outputs and files that are recognised and from which nothing is taken: each
// says what it is, and what gives what is wanted. Forms from memory of the tools.
var texts = []struct {
	form *regexp.Regexp
	says string
	// of is the format whose heading it may be.
	of Format
}{
	{regexp.MustCompile(`(?m)^\s*Raid Level : `), "This is mdadm --detail of a RAID: of the disks it tells too little. In a running Linux: lsblk --json -b -O.", Members},
	{regexp.MustCompile(`(?m)^LUKS header information|^\s*Keyslots:\s*$`), "This is cryptsetup luksDump of an encrypted volume: of the disk it tells too little. In a running Linux: lsblk --json -b -O.", Members},
	{regexp.MustCompile(`(?m)^\s*(?:LV\s+VG\s+Attr|PV\s+VG\s+Fmt|VG\s+#PV)\b`), "This is a list of logical volumes: of the disks they lie on it tells too little. In a running Linux: lsblk --json -b -O.", Members},
	{regexp.MustCompile(`(?m)^(?:Filesystem|Dateisystem|Sys\. de fichiers)\s+\S+.*\d?%`), "This is df, which tells of mounted file systems alone. In a running Linux: lsblk --json -b -O.", ""},
	{regexp.MustCompile(`(?m)^/dev/\S+ on /\S* type \w+ \(`), "This is mount, which tells of mounted file systems alone. In a running Linux: lsblk --json -b -O.", Members},
	{regexp.MustCompile(`(?i)(?m)^BitLocker[^\n]*:.*\d+\.\d+\.\d+|^\s*(?:Conversion Status|Konvertierungsstatus|Protection Status|Schutzstatus)\s*:`), "This is manage-bde -status: it tells which volumes are encrypted, and not how the disks are laid out. In Windows: Get-Disk, Get-Partition, Get-Volume | ConvertTo-Json.", ManageBDE},
	{regexp.MustCompile(`(?i)Windows RE[^\n]*:\s|windows recovery environment \(windows re\)`), "This is reagentc /info: of the disks it tells too little. In Windows: Get-Disk, Get-Partition | ConvertTo-Json.", Reagentc},
	{regexp.MustCompile(`(?m)^NTFS (?:Volume Serial Number|-?Volumenseriennummer)|^Bytes Per (?:File Record|Cluster)|^(?:Bytes pro Cluster)`), "This is fsutil fsinfo ntfsinfo of one volume: of its disk it tells nothing. In Windows: Get-Partition, Get-Volume | ConvertTo-Json.", VolumeReport},
	{regexp.MustCompile(`(?m)^(?:Windows has (?:scanned|made corrections)|The type of the file system is |Der Typ des Dateisystems )`), "This is chkdsk's report of one volume: of its disk it tells nothing. In Windows: Get-Partition, Get-Volume | ConvertTo-Json.", VolumeReport},
	{regexp.MustCompile(`(?m)^APFS Containers? \(\d+ found\)`), "This is diskutil apfs list: it tells of containers and not of the disks. On a Mac: diskutil list -plist.", Containers},
	{regexp.MustCompile(`(?m)^finderinfo\[`), "This is bless --info of one volume: a number other than 0 behind finderinfo[0] means that a system is blessed there, and not on which disk. On a Mac: diskutil list -plist, and answer the check's question by it.", ""},
	{regexp.MustCompile(`(?m)^(?:efi-boot-device|SystemAudioVolume|boot-args|bluetoothActiveControllerInfo)\t`), "These are a Mac's firmware variables (nvram -p), and its startup disk is not among them. On a Mac: diskutil list -plist.", MacVariables},
	{regexp.MustCompile(`(?m)^\s+BSD Name: disk\d+`), "This is a Mac's system report. On a Mac: diskutil list -plist.", ""},
	{regexp.MustCompile(`(?m)^(?:Host Name|Hostname|Nom de l’hôte|Nombre de host|Hostname):\s+\S+`), "This is systeminfo, which tells the model and not how the machine starts. In Windows: msinfo32, under File, Export; or Get-Disk, Get-Partition | ConvertTo-Json.", ""},
	{regexp.MustCompile(`(?m)^(?:smartctl \d|=== START OF (?:INFORMATION|SMART DATA))`), "This is a drive's report on itself: how it is laid out is not in it. In a running Linux: lsblk --json -b -O.", ""},
	{regexp.MustCompile(`(?m)^ATA device, with (?:non-)?removable media|^Node\s+(?:Generic\s+)?SN\s+Model`), "This is what a drive says of itself: how it is laid out is not in it. In a running Linux: lsblk --json -b -O.", ""},
	{regexp.MustCompile(`(?m)^\s*\*-(?:disk|namespace|volume|storage|nvme|scsi|sata|raid)\b`), "This is lshw: how the disks are laid out it tells in part alone. In a running Linux: lsblk --json -b -O.", ""},
	{regexp.MustCompile(`(?m)^major\s+minor\s+#blocks\s+name`), "This is /proc/partitions: it tells neither style nor what lies in a partition. In a running Linux: lsblk --json -b -O.", ""},
	{regexp.MustCompile(`(?m)\s\S+ -> \.\./\.\./\w+\s*$`), "This is a folder of /dev/disk: it tells single names of partitions. In a running Linux: lsblk --json -b -O.", ""},
	{regexp.MustCompile(`(?m)^BOOT_IMAGE=\S+|^(?:initrd=\S+ )?root=(?:UUID|PARTUUID|LABEL|/dev)\S* `), "This is the kernel line of the system that runs: the menu tells what is started next time. In a running Linux: lsblk --json -b -O, and the text of /boot/grub/grub.cfg.", ""},
	{regexp.MustCompile(`(?m)^EFI variables are not supported on this system|^Cmdlet not supported on this platform|^Confirm-SecureBootUEFI\s*: `), "The firmware was not asked, as the system was started in legacy mode or the command was not given by an administrator. In a running Linux: ls /sys/firmware/efi. In Windows: msinfo32, BIOS mode.", ""},
	{regexp.MustCompile(`(?m)^\[ *\d+\.\d+\] `), "This is the kernel's log. In a running Linux: lsblk --json -b -O, and efibootmgr -v.", ""},
	{regexp.MustCompile(`(?i)command not found|is not recognized as|wird nicht als Name|n'est pas reconnu|no se reconoce`), "The command was not found there. In a running Linux: lsblk --json -b -O. In Windows: Get-Disk, Get-Partition | ConvertTo-Json.", ""},
	{regexp.MustCompile(`(?i)permission denied|operation not permitted|must be root|zugriff verweigert|access is denied|accès refusé`), "The command was refused: it wants an administrator. In Linux with sudo before it; in Windows in a terminal that was opened as an administrator.", ""},
}

// saying returns the sentence for a text of which nothing is taken; "" for one that is not
// known, or that is the heading of one of the parts.
func saying(t *text, parts []part) string {
	head := t.head(400)
	joined := ""
	for _, s := range head {
		if len(s) > 400 {
			s = s[:400]
		}
		joined += s + "\n"
	}
	for _, k := range texts {
		switch {
		case !k.form.MatchString(joined):
		case k.of != "" && slices.ContainsFunc(parts, func(p part) bool { return p.format == k.of }):
			return ""
		default:
			return k.says
		}
	}
	return ""
}
