//! Certificates outside of Pindrel: files of the form that a server wants, replaced as a
//! whole, and the commands that follow.

use std::path::Path;
use std::sync::Arc;

use pindrel_core::certificates::delivery::{Command, Contents, Delivery};
use pindrel_core::desired::CertificateId;
use pindrel_core::judging::findings::{CertificateCause, Code, FileFault, Finding, MachineCause};
use pindrel_core::names::name::Hostname;
use pindrel_core::text::display_text::io_reason;
use pindrel_keys::bundle::pkcs12;
use pindrel_keys::{CertificateKey, Chain};
use pindrel_machine::{Program, not_a_file, replace_file};
use pindrel_state::{CertificateRow, CommandRun, Moment};
use zeroize::Zeroizing;

use crate::context::Context;
use crate::context::progress::{Progress, Wait};
use crate::failure::{internal, state_failed};
use crate::home::certificates::Certificates;
use crate::home::keys::SealedKeys;
use crate::observe::certificate::{DeliveryObserver, group_id, owner_id, pem_of};

/// How long listeners may take to serve what was delivered.
const SERVED: std::time::Duration = std::time::Duration::from_secs(30);

/// The step that delivers a certificate.
pub(crate) struct Deliverer {
    pub(crate) context: Arc<Context>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) deliveries: Arc<DeliveryObserver>,
    pub(crate) keys: Arc<SealedKeys>,
}

impl Deliverer {
    /// Writes a certificate to its files, runs the commands that follow, and waits until its
    /// listeners serve it.
    pub(crate) async fn deliver(&self, id: CertificateId, hostname: &Hostname) -> Result<Progress, Finding> {
        let wanted = self.context.desired.certificate(id);
        let row = self.context.state.certificate(&wanted.name).await.map_err(state_failed)?;
        let row = row.ok_or_else(|| internal(format!("the state has no certificate \"{}\"", wanted.name)))?;
        let (chain, key) = self.keys.chain_and_key(&row)?;
        let mut is_changed = false;
        for delivery in &wanted.terms.deliveries {
            if self.deliveries.contains(delivery, &chain, &key)? {
                continue;
            }
            // Known before anything is written: what follows a file follows a repaired one too.
            if !is_changed {
                is_changed = true;
                self.expect_commands(id, &row).await?;
            }
            let place = delivery.file.display().to_string();
            let write = async { self.write(delivery, &chain, &key) };
            self.context.journalled("deliver-file", &wanted.name, &place, write).await?;
        }
        let mut failures = Vec::new();
        for (command, _) in self.deliveries.open_commands(id, &row).await? {
            let shown = command.to_string();
            let what = format!("the command `{shown}` to end");
            self.context.emit_waiting(hostname, "deliver", what, None);
            self.context.journal(Moment::Begun, "command", &wanted.name, shown.clone()).await?;
            let ended = self.run_command(command, &row).await;
            let says = match &ended {
                Ok(output) => (!output.is_empty()).then(|| output.clone()),
                Err(why) => Some(why.clone()),
            };
            self.persist_run(command, &row, ended.is_ok(), says).await?;
            let moment = if ended.is_ok() { Moment::Done } else { Moment::Failed };
            self.context.journal(moment, "command", &wanted.name, shown.clone()).await?;
            if let Err(why) = ended {
                failures.push(format!("the command `{shown}` failed: {why}"));
            }
        }
        self.certificates.know(id, row).await;
        if failures.is_empty() {
            return Ok(self.served_yet(id));
        }
        Err(Finding::certificate(wanted, CertificateCause::AfterDelivery { failures }))
    }

    /// Notes that every command has to run again.
    async fn expect_commands(&self, id: CertificateId, row: &CertificateRow) -> Result<(), Finding> {
        for command in &self.context.desired.certificate(id).terms.after {
            self.persist_run(command, row, false, None).await?;
        }
        Ok(())
    }

    async fn persist_run(
        &self,
        command: &Command,
        row: &CertificateRow,
        succeeded: bool,
        says: Option<String>,
    ) -> Result<(), Finding> {
        let run = CommandRun {
            certificate: row.name.clone(),
            command: command.to_string(),
            sha256: row.held.sha256,
            at: self.context.clock.now(),
            succeeded,
            says,
        };
        self.context.state.persist_command_run(&run).await.map_err(state_failed)
    }

    /// Waits for the listeners that do not serve the certificate yet.
    fn served_yet(&self, id: CertificateId) -> Progress {
        let left: Vec<String> = {
            let known = self.context.known();
            let listeners = known.undelivered.get(&id).map(|undelivered| &undelivered.listeners);
            listeners.into_iter().flatten().map(|(address, _)| address.to_string()).collect()
        };
        let report = self.context.judge_certificate(id, self.context.clock.now());
        match report.findings.into_iter().find(|finding| finding.code() == Code::ServedCertificateDiffers) {
            None => Progress::Done,
            Some(finding) => Progress::NotYet(Wait {
                until: None,
                topic: "served",
                what: format!("{} to serve the certificate", left.join(" and ")),
                within: Some(SERVED),
                finding,
            }),
        }
    }

    /// Writes a file beside the old one, and puts it in its place once it is whole.
    fn write(&self, delivery: &Delivery, chain: &Chain, key: &CertificateKey) -> Result<(), Finding> {
        let path = self.context.folder.join(&delivery.file);
        let bytes = match &delivery.contents {
            Contents::Pem(pieces) => pem_of(pieces, chain, key),
            Contents::Pkcs12 => {
                let alias = chain.leaf().names.first().map_or("certificate", String::as_str);
                let made = pkcs12(chain, key, alias, &self.deliveries.password(delivery)?);
                let failed = |error| internal(format!("{} cannot be made: {error}", path.display()));
                Zeroizing::new(made.map_err(failed)?)
            }
        };
        let owner = (owner_id(delivery)?, group_id(delivery)?);
        write_file(&path, &bytes, delivery.mode.bits(), owner, false)
    }

    /// Runs a command; what it said comes back, or how it failed.
    async fn run_command(&self, command: &Command, row: &CertificateRow) -> Result<String, String> {
        let names = row.held.names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" ");
        let variables = [("PINDREL_CERTIFICATE", row.name.as_str()), ("PINDREL_NAMES", &names)];
        let program = Program {
            folder: Some(&self.context.folder),
            variables: &variables,
            ..Program::command(&command.run, command.within)
        };
        program.run_for_message().await
    }
}

/// Writes a file beside the one that stands there, and puts it in its place once it is whole; what is no file stays.
/// `exported` says whether a person asked for it.
pub(crate) fn write_file(
    path: &Path,
    bytes: &[u8],
    mode: u32,
    owner: (Option<u32>, Option<u32>),
    exported: bool,
) -> Result<(), Finding> {
    let written = match not_a_file(path) {
        Some(what) => Err(FileFault::NotAFile(what.to_owned())),
        None => replace_file(path, bytes, mode, owner)
            .map_err(|error| FileFault::Unwritable { why: io_reason(&error), exported }),
    };
    written.map_err(|why| Finding::machine(MachineCause::File { path: path.to_owned(), why }))
}
