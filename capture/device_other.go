//go:build !linux && !windows

package capture

// OpenDevice opens a device or an image for reading only.
func OpenDevice(path string) (*Device, error) {
	f, size, err := openSized(path)
	if err != nil {
		return nil, err
	}
	return &Device{ReaderAt: f, Closer: f, Size: size}, nil
}
