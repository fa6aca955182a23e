package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"stavren.example/stavren/internal/nearest"
	"stavren.example/stavren/internal/starter"
)

func (s *session) newCommand() *cobra.Command {
	var purpose, key string
	c := &cobra.Command{
		Use:   "new [NAME]",
		Short: "Write a small commented definition to start from",
		Long: `New writes NAME.stavren.yaml, or prints it if NAME is omitted: one machine for a
purpose, with comments on what to change. It never overwrites a file. The
purposes are ` + strings.Join(starter.Purposes(), ", ") + ".",
		Example: "  stavren new tides --purpose web --key ~/.ssh/id_ed25519.pub\n  stavren new --purpose database",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			name := "machine"
			if len(args) == 1 {
				name = strings.TrimSuffix(args[0], ".stavren.yaml")
			}
			publicKey := ""
			if key != "" {
				data, err := fs.ReadFile(s.files, key)
				if err != nil {
					return fmt.Errorf("cannot read the key: %w", err)
				}
				publicKey = strings.TrimSpace(string(data))
			}
			text, err := starter.Definition(name, purpose, publicKey)
			if errors.Is(err, starter.ErrUnknownPurpose) {
				return fmt.Errorf("unknown purpose %q; %s", purpose, nearest.Remedy(purpose, starter.Purposes()))
			}
			if err != nil {
				return err
			}
			if len(args) == 0 {
				fmt.Fprint(s.stdout, text)
				return nil
			}
			return s.writeNew(name+".stavren.yaml", text)
		},
	}
	c.Flags().StringVar(&purpose, "purpose", "bare", "what the machine is for: "+strings.Join(starter.Purposes(), ", "))
	c.Flags().StringVar(&key, "key", "", "public SSH key `FILE` that can log in")
	return c
}

func (s *session) writeNew(name, text string) error {
	file, err := os.OpenFile(s.files.Path(name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s already exists; choose another name", name)
	}
	if err != nil {
		return fmt.Errorf("cannot write %s: %w", name, err)
	}
	if _, err = file.WriteString(text); err == nil {
		err = file.Close()
	}
	if err != nil {
		return fmt.Errorf("cannot write %s: %w", name, err)
	}
	s.talk("%s", good("wrote "+name)+"; review it, then run  stavren check "+name)
	return nil
}
