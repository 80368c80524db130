//! Builds the launcher, so that `kladder` is one file that carries it along.

use std::env;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::Command;

fn main() {
    for input in ["program/main.rs", "src/ladders.rs", "src/table.rs", "src/variables.rs", "build.rs"] {
        println!("cargo::rerun-if-changed={input}");
    }
    let out = PathBuf::from(env::var_os("OUT_DIR").expect("cargo sets OUT_DIR")).join("launcher");
    // A static program starts in half the time; where the static C library is missing, a dynamic one does as well.
    let built = compile(&out, true) || compile(&out, false);
    assert!(built, "rustc could not build the launcher; its messages stand above");
}

fn compile(out: &Path, fixed: bool) -> bool {
    let mut rustc = Command::new(env::var_os("RUSTC").expect("cargo sets RUSTC"));
    rustc.args(["--edition=2024", "--crate-name=kladder_launch", "--crate-type=bin"]);
    rustc.args(["-Copt-level=s", "-Cpanic=abort", "-Clto=fat", "-Ccodegen-units=1", "-Cstrip=symbols"]);
    rustc.arg("--target").arg(env::var_os("TARGET").expect("cargo sets TARGET"));
    if fixed {
        rustc.args(["-Ctarget-feature=+crt-static", "-Crelocation-model=static"]);
    }
    if let Some(linker) = env::var_os("RUSTC_LINKER") {
        let mut option = OsString::from("linker=");
        option.push(linker);
        rustc.arg("-C").arg(option);
    }
    rustc.arg("-o").arg(out).arg("program/main.rs").status().is_ok_and(|status| status.success())
}
