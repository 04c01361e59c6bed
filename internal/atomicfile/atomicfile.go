// Package atomicfile replaces small files in one step, so that a reader meets the old contents or the new and never half of
// either.
package atomicfile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Write puts data in the place of a file, with the rights perm, and is done once the disk has it. The new file is made
// beside the old one and takes its name, so a link in that place is replaced and never followed.
func Write(path string, data []byte, perm fs.FileMode) (err error) {
	file, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+"-*")
	if err != nil {
		return fmt.Errorf("write %s: %w", path, err)
	}
	defer func() {
		if err != nil {
			err = errors.Join(fmt.Errorf("write %s: %w", path, err), os.Remove(file.Name()))
		}
	}()
	_, err = file.Write(data)
	err = errors.Join(err, file.Chmod(perm), file.Sync(), file.Close())
	if err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}
