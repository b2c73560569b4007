package cli

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"twinning/internal/app"
)

func newServe() *cobra.Command {
	cfg, secretFile := app.Config{}, ""
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service: API, console and background work.

Without a database URL it keeps a private PostgreSQL server in the data folder,
made with the Debian package's own binaries. It listens on this machine alone
unless told otherwise.`,
		Args: exact(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if at, err := url.Parse(cfg.DatabaseURL); cfg.DatabaseURL != "" {
				if err != nil {
					return misuse("--database-url can't be read; expected postgres://user@host:port/name")
				}
				if _, secret := at.User.Password(); secret || at.Query().Has("password") || at.Query().Has("sslpassword") {
					return misuse("--database-url holds a password, which everybody on this machine could read among the arguments; give the whole URL in TWINNING_DATABASE_URL, or the password in a file that PGPASSFILE names")
				}
			} else {
				cfg.DatabaseURL = os.Getenv("TWINNING_DATABASE_URL")
			}
			var err error
			if cfg.Mail.Secret, err = mailSecret(secretFile); err != nil {
				return err
			}
			cfg.MasterKey, cfg.Talk, cfg.Log = os.Getenv("TWINNING_MASTER_KEY"), cmd.ErrOrStderr(), cmd.ErrOrStderr()
			a, err := app.Open(cmd.Context(), cfg)
			if err != nil {
				return err
			}
			defer a.Close()
			return a.Serve(cmd.Context(), func(url string) { fmt.Fprintln(cmd.OutOrStdout(), "serving at "+url) })
		},
	}
	limitFlag(cmd)
	home, _ := os.UserHomeDir()
	cmd.Flags().StringVar(&cfg.DataDir, "data-dir", dataDir(home), "folder for keys, spool and the private database")
	cmd.Flags().StringVar(&cfg.DatabaseURL, "database-url", "", "PostgreSQL to use instead of a private one, without a password (with one: env TWINNING_DATABASE_URL)")
	cmd.Flags().StringVar(&cfg.Listen, "listen", "127.0.0.1:7413", "address to listen on")
	cmd.Flags().StringVar(&cfg.Admin, "admin", "admin", "name of the administrator made at the first start")
	cmd.Flags().StringSliceVar(&cfg.Files, "files", nil, "folder that files of systems may be in, besides files in the data folder; may be repeated")
	cmd.Flags().StringVar(&cfg.Networks, "allow-network", "", "ranges to connect to that are refused otherwise, such as 169.254.7.0/24 (link-local, metadata)")
	cmd.Flags().StringVar(&cfg.TLSCert, "tls-cert", "", "file with our certificate and those above it (PEM); read again when it is renewed")
	cmd.Flags().StringVar(&cfg.TLSKey, "tls-key", "", "file with its key (PEM)")
	cmd.Flags().BoolVar(&cfg.BehindTLS, "behind-tls", false, "a proxy before the service speaks TLS with browsers")
	cmd.Flags().StringVar(&cfg.Proxies, "trusted-proxy", "", "ranges of addresses of proxies whose X-Forwarded-For is taken, such as 10.0.0.5/32")
	cmd.Flags().StringVar(&cfg.Mail.URL, "mail", "", "mail server that secrets and invitations are sent through: smtp://USER@HOST:PORT, which encrypts by STARTTLS, or smtps://")
	cmd.Flags().StringVar(&cfg.Mail.From, "mail-from", "", "the address that they come from")
	cmd.Flags().StringVar(&secretFile, "mail-secret-file", "", "file with the secret of USER (or env TWINNING_MAIL_SECRET)")
	cmd.Flags().StringVar(&cfg.Mail.CAFile, "mail-ca", "", "certificates that the mail server may be vouched for by, besides the machine's (PEM)")
	cmd.Flags().BoolVar(&cfg.AdoptTrail, "adopt-trail", false, "once, over the database of a release that did not key its audit trail: key it now")
	cmd.Flags().DurationVar(&cfg.Lease, "lease", 25*time.Second, "how long a silent node keeps its work before another takes it over")
	return cmd
}

// mailSecret is the secret of the mail server, from a file or the environment.
func mailSecret(file string) (string, error) {
	if file == "" {
		return os.Getenv("TWINNING_MAIL_SECRET"), nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("--mail-secret-file can't be read: %w", err)
	}
	return strings.TrimSpace(string(text)), nil
}

// dataDir is where the service keeps what it keeps, when nobody says. The private
// database runs as an account that root's home lets nowhere.
func dataDir(home string) string {
	if os.Geteuid() == 0 {
		return "/var/lib/twinning"
	}
	return filepath.Join(home, ".local", "share", "twinning")
}

func newDemo() *cobra.Command {
	cfg := app.DemoConfig{}
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run the service with the Larkspur Observatories, until Ctrl-C",
		Args:  exact(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			cfg.Talk = cmd.OutOrStdout()
			return app.Demo(cmd.Context(), cfg)
		},
	}
	cmd.Flags().StringVar(&cfg.DataDir, "data-dir", "", "folder to keep the demo in; a temporary one when not given")
	cmd.Flags().StringVar(&cfg.Listen, "listen", "127.0.0.1:7413", "address to listen on")
	return cmd
}

func newStandin() *cobra.Command {
	var listen, state, token string
	scim := &cobra.Command{
		Use:   "scim",
		Short: "A simulated application that speaks SCIM 2.0",
		Long: `A simulated application that speaks SCIM 2.0 below /scim/v2. Its state is kept
in a file. /standin/effects tells what requests have done so far, and PUT
/standin/misbehave makes it slow, throttled, refusing, and so on.`,
		Args: exact(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			return app.ServeStandin(cmd.Context(), listen, state, token, func(url string) {
				fmt.Fprintln(cmd.OutOrStdout(), "standing in at "+url+"/scim/v2")
			})
		},
	}
	scim.Flags().StringVar(&listen, "listen", "127.0.0.1:7414", "address to listen on")
	scim.Flags().StringVar(&state, "state", "standin-scim.json", "file that keeps its users")
	scim.Flags().StringVar(&token, "token", "standin", "bearer token that requests must carry")
	return group("standin", "Simulated outside systems for trying things out", scim, newStandinGate())
}

func newStandinGate() *cobra.Command {
	var gate app.MailGate
	cmd := &cobra.Command{
		Use:   "mail-gate",
		Short: "Feed a simulated mail gateway the upload files that wait for it",
		Args:  exact(),
		RunE: func(cmd *cobra.Command, _ []string) error {
			rows, complaints, err := gate.Load()
			for _, c := range complaints {
				fmt.Fprintln(cmd.ErrOrStderr(), "the gateway did not take "+c)
			}
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "the gateway took %d rows; its list is %s\n", rows-len(complaints), gate.List)
			return nil
		},
	}
	cmd.Flags().StringVar(&gate.List, "list", "", "the gateway's list")
	cmd.Flags().StringVar(&gate.Inbox, "inbox", "", "folder of upload files")
	_ = cmd.MarkFlagRequired("list")
	_ = cmd.MarkFlagRequired("inbox")
	return cmd
}
