package cli

import (
	"github.com/spf13/cobra"

	"stavren.example/stavren"
)

func (s *session) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the language, for editors",
		Long: `Schema prints a JSON Schema (2020-12). With it, an editor completes
keys, explains them, and marks most mistakes of form as you type.`,
		Example: "  stavren schema > stavren.schema.json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			text, err := stavren.Schema()
			if err != nil {
				return err
			}
			_, err = s.output.Write(text)
			return err
		},
	}
}
