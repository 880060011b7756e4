package truth

import (
	"bytes"
	_ "embed" // the first program
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"sync"
	"time"

	"latchkey/capture"
	"latchkey/core/machine"
	"latchkey/core/repair"
	"latchkey/internal/diskmaker"
)

//go:embed repair.sh
var repairInit []byte

// liveTools are the programs of Debian that the commands of a live Linux need.
var liveTools = []string{"sh", "lsblk", "blkid", "blockdev", "sfdisk", "dd", "base64", "mkfs.vfat", "efibootmgr", "wc", "mount", "umount", "cp", "mkdir", "sync", "sed", "echo", "cat", "grep", "test", "sleep", "dirname", "chroot",
	"ln", "awk", "readlink", "df"}

// liveRAMDisk holds Debian's programs with their libraries, and the kernel's
// modules for FAT and the firmware's variables.
var liveRAMDisk = sync.OnceValues(func() ([]byte, error) {
	var a diskmaker.Archive
	for _, dir := range []string{"bin", "dev", "modules", "usr", "usr/bin", "usr/sbin", "lib", "lib64", "sbin", "etc"} {
		a.Add(dir, diskmaker.Folder, nil)
	}
	files := map[string]string{}
	for _, tool := range liveTools {
		path, err := find(tool)
		if err != nil {
			return nil, err
		}
		files["usr/bin/"+tool] = path
		for _, lib := range libraries(path) {
			files[strings.TrimPrefix(lib, "/")] = lib
		}
	}
	modules, _ := filepath.Glob(filepath.Join(KernelFolder(), "modules", "*.ko"))
	for _, m := range modules {
		files["modules/"+filepath.Base(m)] = m
	}
	files["bin/busybox"] = filepath.Join(KernelFolder(), "busybox")
	if err := addFiles(&a, files); err != nil {
		return nil, err
	}
	for _, tool := range []string{"insmod", "poweroff", "seq"} {
		a.Add("usr/sbin/"+tool, 0o100755, []byte("#!/bin/busybox sh\nexec /bin/busybox "+tool+" \"$@\"\n"))
	}
	shell, err := os.ReadFile("/bin/sh")
	if err != nil {
		return nil, err
	}
	a.Add("bin/sh", 0o100755, shell)
	return a.Bytes(), nil
})

// addFiles adds files by where they go, with the folders above them.
func addFiles(a *diskmaker.Archive, files map[string]string) error {
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		content, err := os.ReadFile(files[name])
		if err != nil {
			return err
		}
		a.AddAt(name, 0o100755, content)
	}
	return nil
}

func find(tool string) (string, error) {
	if path, err := exec.LookPath(tool); err == nil {
		return filepath.EvalSymlinks(path)
	}
	for _, dir := range []string{"/usr/sbin/", "/sbin/"} {
		if _, err := os.Stat(dir + tool); err == nil {
			return filepath.EvalSymlinks(dir + tool)
		}
	}
	return "", fmt.Errorf("%s is not installed", tool)
}

// libraries lists the shared libraries of a program.
func libraries(path string) []string {
	out, err := exec.Command("ldd", path).Output()
	if err != nil {
		return nil // a static one
	}
	var libs []string
	for field := range strings.FieldsSeq(string(out)) {
		if strings.HasPrefix(field, "/") {
			libs = append(libs, field)
		}
	}
	return libs
}

// Repaired is what became of a repair in real firmware.
type Repaired struct {
	Scenario Scenario
	Plan     repair.Plan
	Answer   string // what the commands said
	Result   Result // the start after them
	Started  bool   // from the clone
	Err      error
}

// Repairs lists the scenarios, of those whose names match, that do not start from the clone and
// have a plan for a live Linux alone.
func Repairs(pattern *regexp.Regexp) ([]Scenario, error) {
	return repairsOf(func(s Scenario) bool { return pattern.MatchString(s.Called()) })
}

func repairsOf(meant func(Scenario) bool) ([]Scenario, error) {
	var repairable []Scenario
	for _, s := range Scenarios() {
		if s.Firmware != OVMF && s.Firmware != SeaBIOS || s.isLayout() || !meant(s) {
			continue // the real systems take minutes to be built
		}
		plan, err := s.planned()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		if len(plan.Steps) > 0 && !needsSystem(plan) {
			repairable = append(repairable, s)
		}
	}
	if DebianFolder() != "" {
		for _, s := range debianRepairs() {
			if meant(s) {
				repairable = append(repairable, s)
			}
		}
	}
	return repairable, nil
}

// needsSystem reports whether a plan runs programs of the system on the disk,
// which the small Linux of the scenarios does not have.
func needsSystem(p repair.Plan) bool {
	for _, s := range p.Steps {
		switch s.Action {
		case "linux-boot-files", "linux-menu", "initial-ram-disk":
			return true
		}
	}
	return false
}

// planned is what a live Linux alone is to do to a machine.
func (s *Scenario) planned() (repair.Plan, error) {
	dir, err := os.MkdirTemp("", "truth")
	if err != nil {
		return repair.Plan{}, err
	}
	defer os.RemoveAll(dir)
	return s.plan(dir, repair.Linux)
}

func (s *Scenario) plan(dir string, allowed ...repair.Toolbox) (repair.Plan, error) {
	description, err := s.Prepare(dir)
	if err != nil {
		return repair.Plan{}, err
	}
	m, err := capture.Load(description)
	if err != nil {
		return repair.Plan{}, err
	}
	return repair.Find(m, allowed...), nil
}

// Repair plans, runs the rendered script as it stands in a live Linux on the
// machine, and starts the machine again.
func Repair(s Scenario) (r Repaired) {
	r.Scenario = s
	dir, err := os.MkdirTemp("", "truth")
	if err != nil {
		r.Err = err
		return r
	}
	defer os.RemoveAll(dir)
	if r.Plan, r.Err = s.plan(dir, repair.Linux); r.Err != nil {
		return r
	}
	if len(r.Plan.Steps) == 0 {
		r.Err = errors.New("there is no plan: " + r.Plan.Reason)
		return r
	}
	args, err := s.arguments(dir)
	if err != nil {
		r.Err = err
		return r
	}
	script, _ := repair.Script(r.Plan, repair.Linux)
	live, err := s.inNVMe(strings.Contains(script, "$original")).keeping(dir)
	if err != nil {
		r.Err = err
		return r
	}
	if r.Answer, r.Err = runLive(dir, live, script); r.Err != nil {
		return r
	}
	if r.Result, r.Err = boot(dir, args, s.limit()); r.Err == nil {
		r.Started = r.startedFromClone()
	}
	return r
}

// inNVMe is the machine as the live Linux gets it, with its unplugged drives where the commands want the
// original: the small kernel knows NVMe alone.
func (s *Scenario) inNVMe(whole bool) *Scenario {
	moved := *s
	moved.Drives = append([]Drive{}, s.Drives...)
	for i := range moved.Drives {
		moved.Drives[i].Bus, moved.Drives[i].Detached = "nvme", moved.Drives[i].Detached && !whole
	}
	return &moved
}

// keeping returns QEMU's arguments for the firmware's variables as they are in a
// folder.
func (s *Scenario) keeping(dir string) ([]string, error) {
	var vars []byte
	if s.Firmware.UEFI() {
		var err error
		if vars, err = os.ReadFile(filepath.Join(dir, "vars.fd")); err != nil {
			return nil, err
		}
	}
	return arguments(s.Firmware, dir, s.Drives, vars)
}

func (r *Repaired) startedFromClone() bool {
	drive, _, _ := strings.Cut(strings.TrimPrefix(r.Result.Mark, "started:"), ":")
	for _, d := range r.Scenario.Drives {
		if d.Name == drive {
			// What the unplugged original held can have come from its copy alone.
			return machine.Role(d.Role) == machine.RoleClone || d.Detached
		}
	}
	return false
}

// runLive starts the live Linux with a script and returns what it said.
func runLive(dir string, args []string, script string) (string, error) {
	base, err := liveRAMDisk()
	if err != nil {
		return "", err
	}
	var own diskmaker.Archive
	own.Add("init", 0o100755, repairInit)
	own.Add("repair-script", 0o100755, []byte(script))
	path := filepath.Join(dir, "live.cpio")
	if err := os.WriteFile(path, append(bytes.Clone(base), own.Bytes()...), 0o600); err != nil {
		return "", err
	}
	live := append(args, "-kernel", filepath.Join(KernelFolder(), "vmlinuz"), "-initrd", path, "-append", "console=ttyS0 quiet panic=1")
	result, err := boot(dir, live, 10*time.Minute)
	switch {
	case err != nil:
		return result.Serial, err
	case result.Mark != "repaired:0":
		return result.Serial, fmt.Errorf("the commands did not succeed: %s\n%s", result.Mark, tail(result.Serial))
	}
	return result.Serial, nil
}

func tail(s string) string { return s[max(0, len(s)-1500):] }

// RepairAll runs repairs side by side, by Repair or a record's, and hands over each as it comes.
func RepairAll(scenarios []Scenario, workers int, run func(Scenario) Repaired, each func(Repaired)) {
	sideBySide(scenarios, workers, run, func(_ int, r Repaired) { each(r) })
}

// Actions names the steps of a plan.
func Actions(p repair.Plan) string {
	var names []string
	for _, s := range p.Steps {
		names = append(names, s.Action)
	}
	return strings.Join(names, ", ")
}
