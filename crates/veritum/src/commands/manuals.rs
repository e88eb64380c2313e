//! Writes manual pages and completions for shells (hidden: for whoever packs the program up).

use std::path::Path;

use clap::CommandFactory as _;
use clap_complete::Shell;

use crate::args::Cli;
use crate::errors::Failure;
use crate::exit;

pub(crate) fn run(dir: &Path) -> Result<u8, Failure> {
    write(dir).map_err(|e| Failure::not_done(format!("{} cannot be written", dir.display()), e.to_string(), None))?;
    Ok(exit::FINE)
}

fn write(dir: &Path) -> std::io::Result<()> {
    let (pages, completions) = (dir.join("man1"), dir.join("completions"));
    std::fs::create_dir_all(&pages)?;
    std::fs::create_dir_all(&completions)?;
    clap_mangen::generate_to(Cli::command(), &pages)?;
    for shell in [Shell::Bash, Shell::Zsh, Shell::Fish] {
        clap_complete::generate_to(shell, &mut Cli::command(), "veritum", &completions)?;
    }
    Ok(())
}
