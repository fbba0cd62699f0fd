package stage

import (
	"fmt"

	"golang.org/x/sys/windows"
)

// identity tells a folder from any other that may ever have its name: its number
// on the volume, and when it was made.
func (h handle) identity() (string, error) {
	dir, err := h.root.Open(".")
	if err != nil {
		return "", err
	}
	defer dir.Close()
	var info windows.ByHandleFileInformation
	err = windows.GetFileInformationByHandle(windows.Handle(dir.Fd()), &info)
	return fmt.Sprintf("%d.%d-%d", info.FileIndexHigh, info.FileIndexLow, info.CreationTime.Nanoseconds()), err
}
