package archive

import (
	"path"
	"strings"
)

// packed are endings of files that are compressed already.
var packed = func() map[string]bool {
	m := map[string]bool{}
	for ending := range strings.FieldsSeq(`7z aac apk avi avif br bz2 docx epub flac gif gz heic jar jpeg jpg jxl lz lz4 lzma
		m4a m4v mkv mov mp3 mp4 mpeg mpg odp ods odt ogg ogv opus phar png pptx rar tgz txz webm webp wma wmv woff woff2 xlsx xz zip zst`) {
		m["."+ending] = true
	}
	return m
}()

// Packed tells by a file's name whether its content is compressed already.
func Packed(name string) bool { return packed[strings.ToLower(path.Ext(name))] }
