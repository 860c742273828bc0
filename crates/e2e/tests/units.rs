//! The unit tests of the interface's logic, which Node runs.

use antistasis_e2e::{Result, project};
use std::process::Command;

#[test]
fn the_logic_of_the_interface_keeps_what_it_promises() -> Result<()> {
    let output = Command::new("npm").args(["run", "--silent", "unit"]).current_dir(project().join("web")).output()?;
    let said = format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr));
    if output.status.success() {
        Ok(())
    } else {
        Err(format!("the unit tests of the interface failed:\n{said}").into())
    }
}
