package folder

import (
	"fmt"

	"golang.org/x/sys/windows"
)

// Identity tells a folder from any other that may ever have its name: its number
// on the volume, and when it was made.
func (h Handle) Identity() (string, error) {
	dir, err := h.root.Open(".")
	if err != nil {
		return "", err
	}
	defer dir.Close()
	var info windows.ByHandleFileInformation
	err = windows.GetFileInformationByHandle(windows.Handle(dir.Fd()), &info)
	return fmt.Sprintf("%d.%d-%d", info.FileIndexHigh, info.FileIndexLow, info.CreationTime.Nanoseconds()), err
}
