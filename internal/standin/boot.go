package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"latchkey/internal/diskmaker"
)

// bcdboot copies boot files: bcdboot W:\Windows /s S: /f UEFI or BIOS.
func bcdboot(args []string) error {
	if len(args) != 5 || args[1] != "/s" || args[3] != "/f" {
		return fmt.Errorf("expected SOURCE /s VOLUME /f FIRMWARE, not %q", args)
	}
	letter, _, _ := strings.Cut(args[0], ":")
	if _, err := os.Stat(world(letter, "Windows")); err != nil {
		return errors.New("failure when attempting to copy boot files: no Windows is there")
	}
	if _, _, _, err := lettered(args[2]); err != nil {
		return err
	}
	files := map[string][]byte{"EFI/Microsoft/Boot/bootmgfw.efi": diskmaker.Program{}.Bytes(), "EFI/BOOT/BOOTX64.EFI": diskmaker.Program{}.Bytes(), "EFI/Microsoft/Boot/BCD": []byte("regf")}
	if args[4] == "BIOS" {
		files = map[string][]byte{"bootmgr": []byte("MZ"), "Boot/BCD": []byte("regf")}
	}
	for name, content := range files {
		path := world(strings.TrimRight(args[2], ":"), filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, content, 0o600); err != nil {
			return err
		}
	}
	fmt.Println("Startdateien wurden erstellt.")
	return nil
}

// bootsect writes boot code: bootsect /nt60 S: /mbr /force.
func bootsect(args []string) error {
	if len(args) != 4 || args[0] != "/nt60" || args[2] != "/mbr" || args[3] != "/force" {
		return fmt.Errorf("expected /nt60 VOLUME /mbr /force, not %q", args)
	}
	number, s, _, err := lettered(args[1])
	if err != nil {
		return err
	}
	s.Disk.BootCode = "classic"
	return s.store(number)
}
