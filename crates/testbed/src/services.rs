//! Several services on one database and one vault.

use std::path::{Path, PathBuf};

use records::OwnServer;

use crate::Testbed;

/// Two services that share everything but their memory and their data folders.
pub struct Services {
    /// The first one; the reader of its computer is the own one of the team.
    pub one: Testbed,
    /// The second one.
    pub two: Testbed,
    server: OwnServer,
    vault: PathBuf,
    dir: tempfile::TempDir,
}

impl Services {
    /// Starts both, with these flags besides.
    pub fn start(flags: &[&str]) -> Self {
        let dir = tempfile::Builder::new()
            .prefix("duplicarium-shared-")
            .tempdir()
            .expect("a temporary folder");
        let open = std::os::unix::fs::PermissionsExt::from_mode(0o755);
        std::fs::set_permissions(dir.path(), open).expect("the folder is ours");
        let database = dir.path().join("database");
        std::fs::create_dir(&database).expect("the folder is ours");
        // On a thread of its own: whoever starts this may be in a runtime already.
        let started = std::thread::spawn(move || {
            let runtime = tokio::runtime::Runtime::new().expect("a runtime");
            runtime.block_on(OwnServer::start(&database))
        });
        let server = started
            .join()
            .expect("nothing panicked")
            .expect("PostgreSQL starts");
        let vault = dir.path().join("vault");
        let start = |key: Option<&Path>, more: &[&str]| {
            Testbed::start_after(flags, |bed| {
                bed.database = Some(server.url().to_owned());
                let own = [
                    "--private-addresses",
                    "--database-url",
                    server.url(),
                    "--vault-store",
                    crate::path(&vault),
                    "--service-address",
                    &bed.url(),
                ]
                .map(str::to_owned);
                bed.flags.extend(own);
                bed.flags.extend(more.iter().map(|flag| (*flag).to_owned()));
                if let Some(key) = key {
                    std::fs::create_dir_all(bed.data_dir()).expect("the folder is ours");
                    std::fs::copy(key, bed.data_dir().join("team.key")).expect("a key file");
                }
            })
        };
        let one = start(None, &["--own-slots"]);
        let two = start(Some(&one.data_dir().join("team.key")), &[]);
        Self {
            one,
            two,
            server,
            vault,
            dir,
        }
    }

    /// Stops both; their commands start them over TLS from then on.
    pub fn change_to_tls(&mut self) {
        for bed in [&mut self.one, &mut self.two] {
            bed.stop_service();
            let own = bed.url();
            for flag in &mut bed.flags {
                if *flag == own {
                    *flag = own.replace("http://", "https://");
                }
            }
            bed.flags.push("--tls".into());
        }
    }

    /// Address of the database.
    pub fn database(&self) -> &str {
        self.server.url()
    }

    /// Where the vault lies.
    pub fn vault(&self) -> &Path {
        &self.vault
    }

    /// The folder that both share.
    pub fn dir(&self) -> &Path {
        self.dir.path()
    }
}

impl Drop for Services {
    fn drop(&mut self) {
        self.one.stop_service();
        self.two.stop_service();
        if let Err(e) = self.server.stop() {
            eprintln!("PostgreSQL of both services: {e}");
        }
    }
}
