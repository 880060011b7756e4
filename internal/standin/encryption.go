package main

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
)

// theKey is the recovery key of every encrypted volume.
const theKey = "111111-222222-333333-444444-555555-666666-777777-888888"

// manageBDE unlocks an encrypted volume, and suspends its protection: manage-bde -unlock W: -RecoveryPassword KEY,
// manage-bde -protectors -disable W:.
func manageBDE(args []string) error {
	volume := args[len(args)-1]
	if len(args) == 4 && args[0] == "-unlock" && args[2] == "-RecoveryPassword" {
		volume = args[1]
	} else if len(args) != 3 || !slices.Equal(args[:2], []string{"-protectors", "-disable"}) {
		return fmt.Errorf("expected -unlock VOLUME -RecoveryPassword KEY or -protectors -disable VOLUME, not %q", args)
	}
	_, s, i, err := lettered(volume)
	if err != nil {
		return err
	}
	if !bytes.Contains(s.Disk.Partitions[i].Volume.Raw, []byte("-FVE-FS-")) {
		return errors.New("the volume is not encrypted")
	}
	inside := world(strings.TrimRight(volume, ":"), "Windows")
	if args[0] == "-protectors" {
		_, err := os.Stat(inside)
		return err
	}
	if args[3] != theKey {
		return errors.New("the password failed to unlock the volume")
	}
	fmt.Println("The password successfully unlocked volume " + volume)
	return os.Mkdir(inside, 0o700)
}
