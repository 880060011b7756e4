package loader_test

import (
	"bytes"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"latchkey/core/disk"
	"latchkey/core/loader"
	"latchkey/internal/diskmaker"
	"latchkey/internal/reference"
)

// Core images and programs made by Debian's grub-mkimage, read by us.

func TestCoreImagesOfGRUBMkimage(t *testing.T) {
	dir := t.TempDir()
	early := filepath.Join(dir, "early.cfg")
	require.NoError(t, os.WriteFile(early,
		[]byte("search.fs_uuid 5d119082-0000-4000-8000-0000000000aa root hd0,gpt2\nset prefix=($root)/boot/grub\n"), 0o600))
	for name, args := range map[string][]string{
		"with a prefix":   {"-p", "(,gpt2)/boot/grub", "biosdisk", "part_gpt", "ext2"},
		"with early code": {"-p", "/boot/grub", "-c", early, "biosdisk", "part_gpt", "ext2", "search_fs_uuid"},
		"many modules": {"-p", "(,msdos1)/grub", "biosdisk", "part_msdos", "ext2", "lvm", "normal", "linux", "search",
			"btrfs", "xfs", "mdraid1x"},
	} {
		t.Run(name, func(t *testing.T) {
			out := filepath.Join(dir, "core.img")
			reference.Run(t, "", "grub-mkimage", append([]string{"-O", "i386-pc", "-o", out}, args...)...)
			core, err := os.ReadFile(out)
			require.NoError(t, err)
			// Where grub-bios-setup puts it in the gap before the first partition, with
			// the list of sectors in its first one made absolute.
			image := make([]byte, 1<<20)
			copy(image[2048*200:], core)
			at := 2048 * 200
			binary.LittleEndian.PutUint64(image[at+0x1F4:], uint64(at/512+1))
			d, err := disk.New(bytes.NewReader(image), int64(len(image)), 512)
			require.NoError(t, err)
			got, err := loader.ReadGRUBCore(d, uint64(at/512))
			require.NoError(t, err)
			assert.Equal(t, args[1], got.Prefix)
			if name == "with early code" {
				c := loader.ParseGRUBConfig([]byte(got.Config))
				require.Len(t, c.Top, 1)
				assert.Equal(t, loader.Spec{Kind: loader.ByFSUUID, Value: "5d119082-0000-4000-8000-0000000000aa"}, c.Top[0].Spec)
				assert.Equal(t, "($root)/boot/grub", c.Prefix)
			}
			image[at+512+0xB20] = 7 // the packed part is damaged
			_, err = loader.ReadGRUBCore(d, uint64(at/512))
			assert.Error(t, err)
		})
	}
}

func TestProgramsAreRecognisedByWhatTheyCarry(t *testing.T) {
	out := filepath.Join(t.TempDir(), "g.efi")
	reference.Run(t, "", "grub-mkimage", "-O", "x86_64-efi", "-o", out, "-p", "/EFI/debian", "part_gpt", "fat", "ext2")
	for path, want := range map[string]string{
		out: loader.GRUB, "/usr/lib/grub/x86_64-efi/monolithic/grubx64.efi": loader.GRUB,
		"/usr/lib/systemd/boot/efi/systemd-bootx64.efi": loader.SystemdBoot, "/usr/lib/shim/shimx64.efi": loader.Shim,
	} {
		raw := reference.NeedFile(t, path)
		p, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err, path)
		assert.Equal(t, want, p.Is, path)
		if path == out {
			require.NotNil(t, p.GRUB)
			assert.Equal(t, "/EFI/debian", p.GRUB.Prefix)
		}
	}
	for is, want := range map[string]string{"windows": loader.WindowsManager, "shim": loader.Shim, "grub": loader.GRUB,
		"systemd-boot": loader.SystemdBoot} {
		raw := diskmaker.Program{Is: is, Prefix: "/EFI/x", Size: 4096}.Bytes()
		p, err := loader.ExamineEFI(bytes.NewReader(raw), int64(len(raw)))
		require.NoError(t, err, is)
		assert.Equal(t, want, p.Is)
	}
}

// The example of the GNU GRUB Manual 2.06, section 6.1, and the lines that
// grub-mkconfig writes.
func TestGRUBConfiguration(t *testing.T) {
	c := loader.ParseGRUBConfig([]byte(`set default="1"; menuentry_id_option="--id"
if [ x$feature_platform_search_hint = xy ]; then
  search --no-floppy --fs-uuid --set=root --hint-bios=hd0,gpt2 --hint-efi=hd0,gpt2  5d119082-0000-4000-8000-0000000000aa
else
  search --no-floppy --fs-uuid --set=root 5d119082-0000-4000-8000-0000000000aa
fi
menuentry 'Debian GNU/Linux' --class debian $menuentry_id_option 'gnulinux-simple-5d11' {
	set root='hd0,gpt2'
	search --no-floppy --label --set root "the root"
	echo	'Loading Linux ...'
	linux	/boot/vmlinuz-6.1.0-18-amd64 root=UUID=5d119082-0000-4000-8000-0000000000aa ro  quiet
	initrd	/boot/initrd.img-6.1.0-18-amd64
}
submenu 'Advanced' {
	menuentry "Debian, with Linux 6.1.0-17" {
		linux /vmlinuz-6.1.0-17 ro root=PARTUUID=c0de-01 root=/dev/sda2
	}
}
menuentry "Windows" { chainloader /EFI/Microsoft/Boot/bootmgfw.efi
}
configfile $prefix/more.cfg
`))
	require.Len(t, c.Top, 1, "the other branch is not run")
	assert.Equal(t, "5d119082-0000-4000-8000-0000000000aa", c.Top[0].Spec.Value)
	assert.Equal(t, 3, c.Top[0].Line)
	require.Len(t, c.Entries, 3)
	e := c.Entries[0]
	assert.Equal(t, "gnulinux-simple-5d11", e.ID)
	assert.Equal(t, "/boot/vmlinuz-6.1.0-18-amd64", e.Linux)
	assert.Equal(t, []string{"/boot/initrd.img-6.1.0-18-amd64"}, e.Initrds)
	assert.Equal(t, &loader.Spec{Kind: loader.ByFSUUID, Value: "5d119082-0000-4000-8000-0000000000aa"}, e.Root)
	require.Len(t, e.Searches, 2)
	assert.Equal(t, loader.Spec{Kind: loader.ByGRUBDisk, Value: "hd0,gpt2"}, e.Searches[0].Spec)
	assert.Equal(t, loader.Spec{Kind: loader.ByFSLabel, Value: "the root"}, e.Searches[1].Spec)
	require.Len(t, c.Entries[1].Sub, 1)
	assert.Equal(t, &loader.Spec{Kind: loader.ByDevice, Value: "/dev/sda2"}, c.Entries[1].Sub[0].Root)
	assert.Equal(t, "/EFI/Microsoft/Boot/bootmgfw.efi", c.Entries[2].Chain)
	assert.Equal(t, "$prefix/more.cfg", c.ConfigFile)
	d, sure, err := c.DefaultEntry()
	require.NoError(t, err)
	assert.True(t, sure)
	assert.Equal(t, "Debian, with Linux 6.1.0-17", d.Title)
	_, _, err = loader.ParseGRUBConfig(nil).DefaultEntry()
	assert.Error(t, err)
	for value, want := range map[string]loader.GRUBPlace{"hd1,msdos5": {Drive: 1, Partition: 5, Map: "msdos"},
		",gpt2": {Drive: -1, Partition: 2, Map: "gpt"}, "hd0,3": {Partition: 3}} {
		at, ok := loader.GRUBPartition(value)
		assert.True(t, ok)
		assert.Equal(t, want, at)
	}
	for _, value := range []string{"hd0", "cd,1", "hd0,msdos1,bsd1"} {
		_, ok := loader.GRUBPartition(value)
		assert.False(t, ok, value)
	}
}

// fstab(5) and an installer's table.
func TestMountTable(t *testing.T) {
	raw := []byte("# <file system> <mount point> <type> <options>\nUUID=\"5d11\" / ext4 errors=remount-ro 0 1\n" +
		"/dev/disk/by-partuuid/c0de-02\t/boot/efi vfat umask=0077 0 1\nLABEL=more\\040room /data ext4 defaults,nofail 0 2\n" +
		"/dev/sdb1 none swap sw 0 0\nproc /proc proc defaults 0 0\nbroken\n")
	m := loader.ParseFstab(raw)
	require.Len(t, m, 6)
	assert.Equal(t, loader.Spec{Kind: loader.ByFSUUID, Value: "5d11"}, m[0].Spec)
	assert.Equal(t, "/", m[0].Point)
	assert.Equal(t, `UUID="5d11"`, string(raw[m[0].Offset:][:11]))
	assert.Equal(t, loader.Spec{Kind: loader.ByPartUUID, Value: "c0de-02"}, m[1].Spec)
	assert.Equal(t, loader.Spec{Kind: loader.ByFSLabel, Value: "more room"}, m[2].Spec)
	assert.NotEmpty(t, m[5].Comment)
	essential := []bool{}
	for _, x := range m {
		essential = append(essential, x.Essential())
	}
	assert.Equal(t, []bool{true, true, false, false, false, false}, essential)
}

// The example of the Boot Loader Specification, "Type #1 Boot Loader
// Specification Entries".
func TestBootLoaderEntry(t *testing.T) {
	raw := []byte(`# /boot/loader/entries/6a9857a393724b7a981ebb5b8495b9ea-3.8.0-2.fc19.x86_64.conf
title        Fedora 19 (Rawhide)
sort-key     fedora
machine-id   6a9857a393724b7a981ebb5b8495b9ea
version      3.8.0-2.fc19.x86_64
options      root=UUID=6d3376e4-fc93-4509-95ec-a21d68011da2 quiet
architecture x64
linux        /6a9857a393724b7a981ebb5b8495b9ea/3.8.0-2.fc19.x86_64/linux
initrd       /6a9857a393724b7a981ebb5b8495b9ea/3.8.0-2.fc19.x86_64/initrd
`)
	e := loader.ParseEntry(raw)
	assert.Equal(t, "Fedora 19 (Rawhide)", e.Title)
	assert.Equal(t, "/6a9857a393724b7a981ebb5b8495b9ea/3.8.0-2.fc19.x86_64/linux", e.Linux)
	assert.Equal(t, &loader.Spec{Kind: loader.ByFSUUID, Value: "6d3376e4-fc93-4509-95ec-a21d68011da2"}, e.Root)
	assert.Len(t, e.Initrds, 1)
	assert.Equal(t, "options ", string(raw[e.Offset:][:8]))
}

func FuzzConfigurations(f *testing.F) {
	f.Add([]byte("menuentry 'a' {\n search --set root --fs-uuid x\n linux /k root=UUID=x\n}\nset default=0"))
	f.Add([]byte("UUID=x / ext4 defaults 0 1\n"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		c := loader.ParseGRUBConfig(raw)
		_, _, _ = c.DefaultEntry()
		for _, s := range c.Top {
			if s.Offset < 0 || s.Offset+s.Length > int64(len(raw)) {
				t.Fatalf("line %d stands at %d of %d", s.Line, s.Offset, len(raw))
			}
		}
		for _, m := range loader.ParseFstab(raw) {
			if m.Offset+m.Length > int64(len(raw)) {
				t.Fatal("a mount lies past the end")
			}
		}
		loader.ParseEntry(raw)
	})
}

func FuzzReadGRUBCore(f *testing.F) {
	built := diskmaker.Disk{Sectors: 4096, Style: diskmaker.MBR, BootCode: "grub",
		GRUBPrefix: "(,msdos1)/boot/grub"}.MustBuild()
	sound := make([]byte, 16*512)
	_, err := built.ReadAt(sound, 0)
	require.NoError(f, err)
	image := bytes.Clone(sound)
	d, err := disk.New(bytes.NewReader(image), int64(len(image)), 512)
	require.NoError(f, err)
	core, err := loader.ReadGRUBCore(d, 1)
	require.NoError(f, err)
	require.Equal(f, "(,msdos1)/boot/grub", core.Prefix)
	f.Add([]byte{0x10, 0x00, 0xFF})
	f.Fuzz(func(_ *testing.T, changes []byte) {
		copy(image, sound)
		for ; len(changes) >= 3; changes = changes[3:] {
			image[(int(changes[0])<<8|int(changes[1]))%len(image)] = changes[2]
		}
		_, _ = loader.ReadGRUBCore(d, 1)
	})
}

// What a script loads outside of its entries is started by boot alone, and is open where a
// branch that is not known decides; a configuration that it goes on to is no entry's.
func TestWhatAScriptItselfStarts(t *testing.T) {
	c := loader.ParseGRUBConfig([]byte("linux /k root=LABEL=a\ninitrd /r\nboot\n"))
	require.NotNil(t, c.Boots)
	assert.Equal(t, "/k", c.Boots.Linux)
	assert.Equal(t, []string{"/r"}, c.Boots.Initrds)
	assert.Nil(t, loader.ParseGRUBConfig([]byte("linux /k\ninitrd /r\n")).Boots)
	c = loader.ParseGRUBConfig([]byte("if [ $grub_platform = efi ]; then linux /k; else linux /l; fi\nboot\n"))
	assert.Nil(t, c.Boots)
	assert.True(t, c.Cut)
	for _, name := range []string{"configfile", "extract_entries_configfile", "legacy_configfile"} {
		assert.Equal(t, "/more.cfg", loader.ParseGRUBConfig([]byte(name+" /more.cfg\n")).ConfigFile, name)
	}
}
