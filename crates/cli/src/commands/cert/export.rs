//! `pindrel cert export`

use std::io::Write as _;
use std::path::PathBuf;

use clap::{Args, ValueEnum};
use clap_complete::engine::ArgValueCandidates;
use pindrel_core::values::SecretRef;
use pindrel_engine::{ExportForm, write_export};

use super::{kept, read_password, secret_place};
use crate::completion;
use crate::context::Context;
use crate::error::{CliError, Status};

/// Take a certificate out as PEM or PKCS#12
///
/// What holds a private key goes to a file of mode 0600 only. To have a server's files
/// written again at every renewal, use deliver in the manifest.
#[derive(Debug, Args)]
pub(crate) struct ExportArgs {
    /// The certificate's name in the manifest, or a hostname that uses it; also one left over
    #[arg(add = ArgValueCandidates::new(completion::certificates))]
    name: String,

    /// What to write
    #[arg(long, value_name = "FORM", default_value = "chain")]
    form: Form,

    /// The file to write, replacing an old one as a whole
    #[arg(long, value_name = "PATH")]
    out: Option<PathBuf>,

    /// Where the password of a PKCS#12 file is: env:NAME or file:PATH
    #[arg(long, value_name = "WHERE", value_parser = secret_place)]
    password: Option<SecretRef>,
}

/// What is written.
#[derive(Debug, Clone, Copy, ValueEnum)]
enum Form {
    /// Leaf and intermediates
    Chain,
    /// The leaf alone
    Leaf,
    /// The intermediates alone
    Intermediates,
    /// The private key
    Key,
    /// Private key, leaf and intermediates
    Bundle,
    /// Private key and chain as PKCS#12
    Pkcs12,
}

impl From<Form> for ExportForm {
    fn from(form: Form) -> ExportForm {
        match form {
            Form::Chain => ExportForm::Chain,
            Form::Leaf => ExportForm::Leaf,
            Form::Intermediates => ExportForm::Intermediates,
            Form::Key => ExportForm::Key,
            Form::Bundle => ExportForm::Bundle,
            Form::Pkcs12 => ExportForm::Pkcs12,
        }
    }
}

pub(super) async fn run(context: &Context, args: &ExportArgs) -> Result<Status, CliError> {
    let form = ExportForm::from(args.form);
    if form.contents().is_secret() && args.out.is_none() {
        return Err(CliError::Usage {
            says: "a private key is never written to the output".into(),
            remedy: "Name a file with --out PATH".into(),
        });
    }
    let password = read_password(args.password.as_ref())?;
    let (engine, _) = context.engine().await?;
    let name = kept(&engine, &args.name).await?;
    let bytes = engine.certificates.export(&name, form, password.as_ref()).await?;
    match &args.out {
        None => std::io::stdout().write_all(&bytes)?,
        Some(path) => {
            write_export(path, &bytes, form)?;
            if !context.quiet {
                writeln!(anstream::stdout(), "Wrote {}.", path.display())?;
            }
        }
    }
    Ok(Status::Done)
}
