//! Text on narrow terminals: nothing is wider than there is room for, but what cannot be broken.

use crate::sandbox::Sandbox;

#[test]
fn text_fits_the_width_that_there_is() {
    let sandbox = Sandbox::new();
    let _ = sandbox.run(&["climb"]).passed();
    sandbox.wish("tidlow = \"long-term\"\nskerroc = \"1.4\"\nneapstone = \"any\"");
    let commands: [&[&str]; 10] = [
        &[],
        &["survey"],
        &["search"],
        &["about", "tidlow"],
        &["route"],
        &["why", "skerroc"],
        &["newer"],
        &["landings"],
        &["pin"],
        &["verify"],
    ];
    for width in [40, 80, 120] {
        for arguments in commands {
            let output = sandbox.command(arguments).env("COLUMNS", width.to_string()).output().unwrap();
            let text = String::from_utf8(output.stdout).unwrap();
            assert!(!text.is_empty() || !output.stderr.is_empty(), "{arguments:?}");
            for line in text.lines() {
                let widest = line.split(' ').map(|word| word.chars().count()).max().unwrap_or(0);
                let wide = line.chars().count();
                assert!(wide <= width || widest > width / 2, "{arguments:?} at {width}: {wide}\n{line}\n\n{text}");
            }
        }
    }
}
