package folder

import (
	"fmt"

	"golang.org/x/sys/windows"
)

// Identity tells a folder from any other that may ever have its name: its number
// on the volume, which has a sequence in it, so that no other folder gets it.
func (h Handle) Identity() (string, error) {
	dir, err := h.root.Open(".")
	if err != nil {
		return "", err
	}
	defer dir.Close()
	var info windows.ByHandleFileInformation
	err = windows.GetFileInformationByHandle(windows.Handle(dir.Fd()), &info)
	return fmt.Sprintf("%d.%d.%d", info.VolumeSerialNumber, info.FileIndexHigh, info.FileIndexLow), err
}
