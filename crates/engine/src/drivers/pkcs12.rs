//! PKCS#12 files, opened in a process of their own without rights: the program runs itself for that.

use std::io::{Read as _, Write as _};
use std::process::ExitCode;
use std::time::Duration;

use pindrel_keys::bundle::{OpenHere, OpenPkcs12, OpenedPkcs12, Unopened};
use pindrel_machine::{confine, run_confined};
use secrecy::{ExposeSecret as _, SecretString};
use zeroize::Zeroizing;

/// The one argument by which the program is asked to open a file.
pub const OPEN_PKCS12: &str = "open-pkcs12-confined";
/// How long a file may take to be opened: its maker says how often the password is hashed.
const PATIENCE: Duration = Duration::from_secs(30);
/// The longest that comes of a file, in bytes of JSON.
const MAX_OPENED: usize = 16 << 20;

/// Opens files by running this very program.
pub(super) struct Confined;

impl OpenPkcs12 for Confined {
    fn open(&self, file: &[u8], password: &SecretString) -> Result<OpenedPkcs12, Unopened> {
        let program = std::env::current_exe().map_err(|error| Unopened::Unread(error.to_string()))?;
        let password = password.expose_secret().as_bytes();
        let mut input = Zeroizing::new(Vec::with_capacity(8 + password.len() + file.len()));
        input.extend_from_slice(&(password.len() as u64).to_be_bytes());
        input.extend_from_slice(password);
        input.extend_from_slice(file);
        let output = run_confined(&program, OPEN_PKCS12, &input, MAX_OPENED, PATIENCE).map(Zeroizing::new);
        let opened: Option<OpenedPkcs12> = serde_json::from_slice(&output.map_err(Unopened::Unread)?)
            .map_err(|error| Unopened::Unread(error.to_string()))?;
        opened.ok_or(Unopened::Password)
    }
}

/// Gives up all rights, opens the file on standard input and writes what is in it: what the program is when it runs for
/// itself.
pub fn open_pkcs12_confined() -> ExitCode {
    let opened = || {
        confine().ok()?;
        let mut input = Zeroizing::new(Vec::new());
        std::io::stdin().read_to_end(&mut input).ok()?;
        let (length, rest) = input.split_first_chunk::<8>()?;
        let (password, file) = rest.split_at_checked(usize::try_from(u64::from_be_bytes(*length)).ok()?)?;
        let password = SecretString::from(std::str::from_utf8(password).ok()?.to_owned());
        let opened = Zeroizing::new(serde_json::to_vec(&OpenHere.open(file, &password).ok()).ok()?);
        std::io::stdout().write_all(&opened).ok()
    };
    if opened().is_some() { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
