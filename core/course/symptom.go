package course

// SymptomID names what a machine can show when it does not start. Package symptom
// tells what each can mean.
type SymptomID string

// Symptom is what the person at the machine sees.
type Symptom struct {
	ID   SymptomID
	Text string // as a sentence says it
}

// Symptoms lists what a start that stops can show, but for what boot code writes
// itself.
var Symptoms []Symptom

func symptom(id SymptomID, text string) Symptom {
	s := Symptom{id, text}
	Symptoms = append(Symptoms, s)
	return s
}

// What a start that stops shows. GNU GRUB Manual, "GRUB only offers a rescue shell";
// systemd.mount(5) for emergency mode; the boot manager's codes are common practice.
var (
	NoDevice             = symptom("no-device", "no bootable device was found, or the firmware's own setup.")
	SecureViolation      = symptom("secure-violation", "a security violation, or nothing: the disk is passed over without a word.")
	ShimViolation        = symptom("secure-violation", "ERROR, Verification failed: (0x1A) Security Violation.")
	MissingSystem        = symptom("missing-os", "Missing operating system.")
	MissingOrInvalid     = symptom("missing-os", "Missing operating system, or Invalid partition table.")
	MissingOrNoDevice    = symptom("missing-os", "Missing operating system, or no bootable device.")
	InvalidTable         = symptom("invalid-table", "Invalid partition table.")
	DiskReadError        = symptom("disk-read-error", "A disk read error occurred, or a blinking cursor.")
	BlackCursor          = symptom("cursor", "black, with a cursor.")
	BootmgrMissing       = symptom("bootmgr-missing", "BOOTMGR is missing.")
	GRUBReadError        = symptom("grub-read-error", "GRUB Read Error, or the word GRUB and nothing more.")
	GRUBRescue           = symptom("grub-rescue", "error: no such device, or unknown filesystem; then grub rescue>.")
	GRUBRescueModule     = symptom("grub-rescue", "error: file … normal.mod not found; then grub rescue>.")
	GRUBNoCommand        = symptom("grub-no-command", "error: can't find command linux, and back to the menu.")
	GRUBPrompt           = symptom("grub-prompt", "GRUB's prompt, grub>, and no menu.")
	GRUBNoKernel         = symptom("grub-no-kernel", "error: file not found; you need to load the kernel first.")
	GRUBBadKernel        = symptom("grub-bad-kernel", "error: premature end of file, or invalid magic number; you need to load the kernel first.")
	GRUBSignature        = symptom("grub-signature", "error: bad shim signature; you need to load the kernel first.")
	NoEntries            = symptom("systemd-boot-none", "a menu without a system, or the firmware's setup.")
	SyslinuxNoModule     = symptom("syslinux-module", "Failed to load ldlinux.c32. Boot failed: please change disks and press a key to continue.")
	SyslinuxNoMenuModule = symptom("syslinux-module", "Failed to load COM32 file, then boot: and nothing more.")
	SyslinuxNoMenu       = symptom("syslinux-menu", "WARNING: No configuration file found, then boot: and nothing more.")
	SyslinuxNoDefault    = symptom("syslinux-menu", "No DEFAULT or UI configuration directive found!, then boot: and nothing more.")
	SyslinuxNoFile       = symptom("syslinux-file", "Loading … failed: No such file or directory, or Bad file number; then boot: and nothing more.")
	SyslinuxBadKernel    = symptom("syslinux-kernel", "Booting kernel failed: Invalid argument, then boot: and nothing more.")
	StubBadKernel        = symptom("entry-bad-kernel", "Error loading the kernel: Unsupported; then the next boot entry, or the firmware's setup.")
	KernelSilent         = symptom("kernel-silent", "black, or a report that unpacking failed, -- System halted; or the machine starts anew at once.")
	NoInit               = symptom("no-init", "No init found, then a prompt of the initial RAM disk, or Kernel panic - not syncing: No working init found.")
	WrongLetter          = symptom("wrong-letter", "an empty desktop, a temporary profile, or Preparing your desktop without end: C: is another disk.")
	RootWait             = symptom("root-wait", "waiting for the root device, then a prompt of the initial RAM disk, (initramfs) or dracut.")
	StubNoFile           = symptom("efi-stub-file", "EFI stub: ERROR: Failed to open file, Failed to load initrd; then the next boot entry, or the firmware's setup.")
	RootRefused          = symptom("root-refused", "Failed to mount … as root file system, then a prompt of the initial RAM disk.")
	RootPanic            = symptom("kernel-panic-root", "Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0).")
	EmergencyMode        = symptom("emergency-mode", "a minute's wait, then: You are in emergency mode.")
	ReadOnlyRoot         = symptom("read-only-root", "Failed to start Remount Root and Kernel File Systems; it comes up, and whatever writes fails: Read-only file system.")
	FrozenInit           = symptom("init-frozen", "Failed to mount early API filesystems. Freezing execution; or Kernel panic - not syncing: Attempted to kill init!")
	RescueMode           = symptom("rescue-mode", "You are in rescue mode, or in emergency mode, and a prompt for root's password.")
	StoreMissing         = symptom("c000000f", "a blue screen of the boot manager with 0xc000000f: the boot configuration data is missing or incomplete.")
	StoreDamaged         = symptom("c000014c", "a blue screen of the boot manager with 0xc000014c: the boot configuration data is damaged.")
	NoSystemEntry        = symptom("c0000098", "a blue screen of the boot manager with 0xc0000098: no valid system entry.")
	DeviceMissing        = symptom("c000000e", "a blue screen of the boot manager with 0xc000000e: a device that is needed is not there.")
	SystemLoaderGone     = symptom("c000000f", "a blue screen of the boot manager with 0xc000000f: the system's loader is missing.")
	SystemLoaderWrong    = symptom("c000007b", "a blue screen of the boot manager: the system's loader cannot be started in this mode (0xc000007b or 0xc000035a).")
	SystemLoaderDamaged  = symptom("c000007b", "a blue screen of the boot manager with 0xc000007b: a required file is missing or contains errors.")
	SystemKernelGone     = symptom("ntoskrnl", "a blue screen of the boot manager: the operating system couldn't be loaded because the kernel is missing or contains errors (ntoskrnl.exe; 0xc000000f, 0xc0000098 or 0xc0000221).")
	SystemRegistryGone   = symptom("system-hive", "a blue screen of the boot manager: the operating system couldn't be loaded because the system registry file is missing or contains errors (SYSTEM; 0xc000014c or 0xc000000f).")
	NoBootDriver         = symptom("0x7b", "the stop code INACCESSIBLE BOOT DEVICE (0x7B).")
	RecoveryKey          = symptom("recovery-key", "a blue screen that asks for the recovery key.")
	Unmountable          = symptom("0xed", "the stop code UNMOUNTABLE BOOT VOLUME (0xED), or a repair that does not end.")
	DeviceDamaged        = symptom("maker-logo", "a report that the system's device is damaged, or the start picture without end.")
	DeviceCutOff         = symptom("maker-logo", "the loader's report that the system's device is missing or damaged, or the start picture without end.")
	MacQuestion          = symptom("mac-question", "a folder with a question mark.")
	MacExternal          = symptom("mac-external", "Security settings do not allow this Mac to use an external startup disk.")
	MacProhibitory       = symptom("mac-prohibitory", "a circle with a line through it.")
)

// FromCode is what boot code writes on the screen before it ends.
func FromCode(text string) Symptom { return Symptom{"code-message", text} }

// FromShim is what the shim says of the program that it cannot start.
func FromShim(text string) Symptom { return Symptom{"shim-message", text} }
