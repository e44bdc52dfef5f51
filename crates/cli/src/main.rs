//! The program `pindrel`; see the library of this package.

fn main() -> std::process::ExitCode {
    pindrel::main()
}
