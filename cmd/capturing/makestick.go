package capturing

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"latchkey/capture"
	"latchkey/core/disk"
)

func makeStickCommand() *cobra.Command {
	var capacity string
	cmd := &cobra.Command{
		Use: "make-stick IMAGE DEVICE", Short: "Write the stick's image to a USB drive",
		Long: "Write the stick's image to a USB drive or a card, and read it again. Everything on it is lost: its capacity is typed to confirm it. A drive that hangs otherwise, and the one that this system runs from, are refused.",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			image, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer image.Close()
			info, err := image.Stat()
			if err != nil {
				return err
			}
			if err := confirmStick(cmd, args[1], info.Size(), capacity); err != nil {
				return err
			}
			sum, err := capture.MakeStick(image, info.Size(), args[1], func(done int64) {
				if done>>20%16 == 0 {
					fmt.Fprintf(cmd.ErrOrStderr(), "\r%s of %s", disk.Binary(done), disk.Binary(info.Size()))
				}
			})
			fmt.Fprintln(cmd.ErrOrStderr())
			if errors.Is(err, os.ErrPermission) {
				return fmt.Errorf(
					"%w. In Windows: open the command prompt as administrator, and clear the drive first, by diskpart's select disk, detail disk, clean",
					err,
				)
			}
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s: written and read again, SHA-256 %x\n", args[1], sum)
			return err
		},
	}
	cmd.Flags().StringVar(&capacity, "capacity", "", "the drive's capacity in GB, in place of typing it")
	return cmd
}

// confirmStick asks for the capacity of the drive that is to be overwritten.
func confirmStick(cmd *cobra.Command, path string, image int64, typed string) error {
	d, err := capture.OpenDevice(path)
	if err != nil {
		return err
	}
	defer d.Close()
	block := true
	if at, err := os.Stat(path); err == nil && at.Mode().IsRegular() {
		block = false // an image of a stick
	}
	if err := d.FitForStick(path, image, block); err != nil {
		return fmt.Errorf("%w: nothing was written", err)
	}
	if typed == "" {
		fmt.Fprintf(
			cmd.ErrOrStderr(),
			"Everything on %s (%s, %s %s) is lost. Type its capacity, in GB: ",
			path,
			disk.Both(d.Size),
			d.Model,
			d.Serial,
		)
		if typed, err = bufio.NewReader(cmd.InOrStdin()).ReadString('\n'); err != nil {
			return errors.New("its capacity was not typed: nothing was written")
		}
	}
	if !capture.ConfirmsCapacity(typed, d.Size) {
		return fmt.Errorf(
			"%q is not the capacity of %s, which has %s: nothing was written",
			strings.TrimSpace(typed),
			path,
			disk.Both(d.Size),
		)
	}
	return nil
}
