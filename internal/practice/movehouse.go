package practice

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"revlet/internal/practice/lampblack"
	"revlet/internal/practice/nameserver"
)

// newHost is the address of the host that the demo's museum moves to.
const newHost = "127.0.0.2"

// moveHouse has the museum's name lead to another host, without a visitor losing anything.
func (d *demoRun) moveHouse(ctx context.Context) error {
	old := strings.TrimPrefix(d.address, "http://")
	host, port, err := net.SplitHostPort(old)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", net.JoinHostPort(newHost, port))
	if err != nil {
		d.say("(This machine has no address %s that a second host could have: this chapter is left out.)", newHost)
		return nil
	}
	there := filepath.Join(d.dir, "newhost", "htdocs")
	go func() { _ = serve(ctx, listener, lampblack.Handler(there)) }()
	d.say("The old host is %s, the new one %s; name servers and a resolver are simulated, with the\nzone in zones.txt. The site has a name from now on:", host, newHost)
	name := "kestrelpoint.example:" + port
	if err := d.edit(d.config(), old, name); err != nil {
		return err
	}
	servers, asked, err := d.zones(ctx, host)
	if err != nil {
		return err
	}
	defer servers.Close()
	for _, step := range []struct {
		code int
		args []string
	}{
		// The name does not lead there yet.
		{exitDamage, []string{"--quiet", "move", "kestrelpoint", "--to", "newhost", "--root", "newhost/htdocs", "--address", "http://" + name, "--yes", "--key", "kestrelpoint.key"}},
		{0, append([]string{"cutover", "plan", "kestrelpoint"}, asked...)},
		{0, []string{"cutover", "match", "kestrelpoint", "--at", newHost, "--old", host, "--rate", "100"}},
		{0, []string{"--quiet", "cutover", "finish", "kestrelpoint", "--to", "newhost", "--yes", "--key", "kestrelpoint.key"}},
	} {
		if err := d.run(ctx, step.code, step.args...); err != nil {
			return err
		}
	}
	d.say("The record is changed where the domain is looked after:")
	fmt.Fprintf(d.Out, "%ssed -i s/%s/%s/ zones.txt\n", d.Dim("$ "), host, newHost)
	if err := d.edit(filepath.Join(d.dir, "zones.txt"), host, newHost); err != nil {
		return err
	}
	if err := d.run(ctx, 0, append(append([]string{"cutover", "watch", "kestrelpoint"}, asked...), "--times", "2", "--every", "1 second", "--limit", "1 minute")...); err != nil {
		return err
	}
	d.say("It can be taken back, even now, at the cost of what was written over there since; your copy of\nthe demo stays where it was:")
	if err := d.run(ctx, 0, "cutover", "finish", "kestrelpoint", "--back", "--anyway", "--yes", "--key", "kestrelpoint.key"); err != nil {
		return err
	}
	return d.edit(d.config(), name, old)
}

// zones plays the museum's name servers and a resolver, and returns how they are asked.
func (d *demoRun) zones(_ context.Context, host string) (*nameserver.Server, []string, error) {
	file := filepath.Join(d.dir, "zones.txt")
	text := fmt.Sprintf(`kestrelpoint.example.     300 SOA ns1.kestrelpoint.example. keeper.kestrelpoint.example. 1 3600 600 86400 1
kestrelpoint.example.     300 NS  ns1.kestrelpoint.example.
kestrelpoint.example.       1 A   %s
kestrelpoint.example.     300 MX  10 mail.kestrelpoint.example.
mail.kestrelpoint.example. 300 A  192.0.2.25
www.kestrelpoint.example.   1 CNAME kestrelpoint.example.
`, host)
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return nil, nil, err
	}
	servers, err := nameserver.Start(file, "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	resolver, err := servers.Resolve("127.0.0.1:0", nameserver.Faults{})
	if err != nil {
		_ = servers.Close()
		return nil, nil, err
	}
	return servers, []string{"--to", newHost, "--name-server", servers.Address, "--resolver", resolver.Address}, nil
}

// edit changes a text in a file, as a person would with an editor.
func (d *demoRun) edit(file, old, now string) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return os.WriteFile(file, []byte(strings.ReplaceAll(string(data), old, now)), 0o600)
}
