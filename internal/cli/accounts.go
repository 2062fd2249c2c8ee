package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"revlet/internal/cli/render"
	"revlet/internal/jobs"
	"revlet/internal/platform/disk"
	"revlet/internal/platform/process"
)

func (a *app) accountsCommand() *cli.Command {
	changing := []cli.Flag{yesFlag, jsonFlag}
	return &cli.Command{
		Name: "accounts", Usage: "the administrators of a site; set a password or mail address", ArgsUsage: "SITE",
		Description: "Lists who may do everything on a site. A password that is set, by `accounts\n" +
			"password`, ends the account's sessions, and can be taken back by `accounts undo`.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "archive", Usage: "as they are in this `ARCHIVE`"},
			&cli.BoolFlag{Name: "all", Usage: "list all accounts, not only administrators"},
			keyFlag, signedByFlag, jsonFlag,
		},
		Action: a.listAccounts,
		Commands: []*cli.Command{
			{Name: "password", Usage: "give an account a new password, asked for or from a file", ArgsUsage: "SITE USER",
				Description: "USER is the name, mail address or number of an account. The password is kept in the\n" +
					"form that this version of the CMS takes; it is never shown or remembered here.",
				Flags: append([]cli.Flag{&cli.StringFlag{Name: "password-file", Usage: "take it from the first line of `FILE`; - is the standard input"}}, changing...), Action: a.setPassword},
			{Name: "mail", Usage: "give an account another mail address", ArgsUsage: "SITE USER ADDRESS", Flags: changing, Action: a.setMail},
			{Name: "title", Usage: "give a site another title", ArgsUsage: "SITE TITLE", Flags: changing, Action: a.setTitle},
			{Name: "undo", Usage: "take the last of these changes back", ArgsUsage: "SITE", Flags: changing, Action: a.undoAccount},
		},
	}
}

func (a *app) listAccounts(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	list, err := a.jobs.Accounts(ctx, name, c.String("archive"), c.Bool("all"))
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(map[string]any{"site": name, "accounts": render.NonNil(list)})
	}
	a.ShowAccounts(name, list, c.Bool("all"))
	return nil
}

// args returns exactly n arguments.
func args(c *cli.Command, n int) ([]string, error) {
	if c.Args().Len() != n {
		return nil, usageError("`%s` needs %s; it got %d arguments", c.FullName(), c.ArgsUsage, c.Args().Len())
	}
	return c.Args().Slice(), nil
}

func (a *app) setPassword(ctx context.Context, c *cli.Command) error {
	typed, err := args(c, 2)
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	plain, err := a.newPassword(c.String("password-file"))
	if err != nil {
		return err
	}
	return a.changeAccount(c, typed[0], "Set a new password for "+typed[1]+" on "+typed[0]+"?", func() (*jobs.ValueChange, error) {
		return a.jobs.SetAccount(ctx, typed[0], typed[1], jobs.PasswordOf, plain)
	})
}

func (a *app) setMail(ctx context.Context, c *cli.Command) error {
	typed, err := args(c, 3)
	if err != nil {
		return err
	}
	to := typed[2]
	if before, host, ok := strings.Cut(to, "@"); !ok || before == "" || host == "" || strings.ContainsAny(to, " <>\"'\t\r\n") {
		return usageError("%q is no mail address", to)
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	return a.changeAccount(c, typed[0], "Set the mail address of "+typed[1]+" to "+to+"?", func() (*jobs.ValueChange, error) {
		return a.jobs.SetAccount(ctx, typed[0], typed[1], jobs.MailOf, to)
	})
}

func (a *app) setTitle(ctx context.Context, c *cli.Command) error {
	typed, err := args(c, 2)
	if err != nil {
		return err
	}
	if strings.TrimSpace(typed[1]) == "" {
		return usageError("the title is empty")
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	return a.changeAccount(c, typed[0], "Set the title of "+typed[0]+" to “"+typed[1]+"”?", func() (*jobs.ValueChange, error) {
		return a.jobs.SetTitle(ctx, typed[0], typed[1])
	})
}

func (a *app) undoAccount(ctx context.Context, c *cli.Command) error {
	name, err := oneArg(c, "SITE")
	if err != nil {
		return err
	}
	if err := a.open(ctx, c); err != nil {
		return err
	}
	if err := a.confirmed(c, "Take back the last change of "+name+"'s accounts?"); err != nil {
		return err
	}
	change, err := a.jobs.UndoAccount(ctx, name)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(changeJSON(name, change))
	}
	a.ShowUndone(name, change)
	return nil
}

// changeAccount asks, changes and reports.
func (a *app) changeAccount(c *cli.Command, name, question string, change func() (*jobs.ValueChange, error)) error {
	if err := a.confirmed(c, question); err != nil {
		return err
	}
	done, err := change()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.PrintJSON(changeJSON(name, done))
	}
	a.ShowChange(name, done)
	return nil
}

// changeJSON says what was changed; hashes of passwords are left out.
func changeJSON(name string, c *jobs.ValueChange) map[string]any {
	all := map[string]any{"site": name, "what": c.What, "account": c.Name, "table": c.Table}
	if c.What != jobs.PasswordOf {
		all["before"], all["after"] = c.Before, c.After
	}
	return all
}

// newPassword reads a new password from a file, or asks for it twice.
func (a *app) newPassword(file string) (string, error) {
	var data []byte
	var err error
	switch {
	case file == "-":
		data, err = io.ReadAll(io.LimitReader(a.in, 4<<10))
	case file != "":
		a.warnReadable(file)
		data, err = os.ReadFile(file)
	default:
		return a.askPassword()
	}
	if err != nil {
		return "", fmt.Errorf("the new password: %w", err)
	}
	line, _, _ := strings.Cut(string(data), "\n")
	return strings.TrimSuffix(line, "\r"), nil
}

// warnReadable tells of files with a secret that others can read.
func (a *app) warnReadable(files ...string) {
	for _, file := range files {
		if info, err := os.Stat(file); err == nil && disk.KeepsModes && info.Mode().Perm()&0o077 != 0 {
			a.note("%s holds a secret and others can read it; run: chmod 600 %s", file, process.ShellQuote(file))
		}
	}
}

func (a *app) askPassword() (string, error) {
	if !terminal(a.in) {
		return "", usageError("nobody can be asked for the password here; --password-file FILE takes it from a file")
	}
	var words [2]string
	for i, question := range []string{"New password: ", "Once more: "} {
		typed, err := a.askSecret(question)
		if err != nil {
			return "", err
		}
		words[i] = typed
	}
	if words[0] != words[1] {
		return "", &exitError{exitFailed, errors.New("the two differ; nothing was changed")}
	}
	return words[0], nil
}
