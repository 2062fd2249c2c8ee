package jobs

import (
	"testing"

	"revlet/internal/platform/disk/disktest"
)

func TestMain(m *testing.M) { disktest.Main(m) }
