//go:build linux

package main

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
)

// moving compares a move, which changes addresses in the values on their way, with a restore
// of the same archive, which does not.
func (b *bench) moving() error {
	if err := b.feed(writeAddressed); err != nil {
		return err
	}
	config := fmt.Sprintf("state: ./state\nstores: {here: {folder: ./archives}}\nsites:\n  museum:\n    root: ./small\n    address: https://museum.example\n    stores: [here]\n    recipe: none\n    databases: {main: {mysql: \"museum@127.0.0.1:%d/addressed\", password_file: pw}}\n", b.server.Port)
	fresh := func() error {
		for _, q := range []string{"DROP DATABASE IF EXISTS moved", "CREATE DATABASE moved"} {
			if err := b.mariadb("-e", q).Run(); err != nil {
				return err
			}
		}
		_ = b.revlet("settle", "museum", "--unsaved", "--yes").Run()
		_ = b.revlet("settle", "lighthouse", "--unsaved", "--yes").Run()
		return errorsFirst(os.RemoveAll(b.path("moved")), os.MkdirAll(b.path("small"), 0o755), os.WriteFile(b.path("small/index.html"), []byte("https://museum.example/"), 0o644),
			os.WriteFile(b.path("pw"), []byte("x"), 0o600), os.WriteFile(b.path("revlet.yaml"), []byte(config), 0o600))
	}
	if err := errorsFirst(os.RemoveAll(b.path("state")), os.RemoveAll(b.path("archives")), os.MkdirAll(b.path("archives"), 0o755), fresh()); err != nil {
		return err
	}
	if _, err := measure(b.revlet("backup", "museum")); err != nil {
		return err
	}
	// A move ends with 4 where the new place does not answer, as here.
	move := b.shell(fmt.Sprintf("REVLET_CONFIG=revlet.yaml %s --quiet move museum --to lighthouse --root moved --address https://lighthouse.example/visit --database 'mysql: museum@127.0.0.1:%d/moved' --password-file pw --yes || test $? = 4", b.program, b.server.Port))
	return b.line(versus{"move, addresses changed", 1.15, fresh, move, b.revlet("restore", "museum", "--yes")})
}

// writeAddressed writes rows of which every second is serialised, and every tenth has an
// address in it.
func writeAddressed(w *bufio.Writer) {
	fmt.Fprint(w, "CREATE DATABASE addressed CHARACTER SET utf8mb4; GRANT ALL ON addressed.* TO 'museum'@'127.0.0.1'; GRANT ALL ON moved.* TO 'museum'@'127.0.0.1'; USE addressed; CREATE TABLE options (id INT AUTO_INCREMENT PRIMARY KEY, k VARCHAR(60), v LONGTEXT, KEY (k));\n")
	r := rand.New(rand.NewPCG(1871, 3))
	for written, n := 0, 0; written < *sqlMB*1e6; {
		fmt.Fprint(w, "INSERT INTO options (k, v) VALUES ")
		for i := range 200 {
			var text strings.Builder
			for text.Len() < 600 {
				fmt.Fprintf(&text, "%s %d ", words[r.IntN(len(words))], r.IntN(1000))
			}
			v := text.String()
			if n%10 == 0 {
				v += "https://museum.example/" + words[r.IntN(len(words))]
			}
			if n%2 == 0 {
				v = fmt.Sprintf(`a:2:{s:4:"text";s:%d:"%s";s:1:"n";i:%d;}`, len(v), v, n)
			}
			if i > 0 {
				w.WriteByte(',')
			}
			fmt.Fprintf(w, "('%s','%s')", words[r.IntN(len(words))], v)
			written += len(v) + 20
			n++
		}
		w.WriteString(";\n")
	}
}
