//! The notebook kernel of a set, proved at work.

use super::LibrarySet;
use super::lock::quoted;

/// The library that is the kernel of notebooks.
pub(super) const KERNEL_LIBRARY: &str = "ipykernel";

/// Starts the kernel, has it run a cell by its protocol ("Messaging in Jupyter", version 5), and compares which interpreter
/// answered. The client is the one that a kernel brings along.
const SCRIPT: &str = "import os, sys, tempfile
from jupyter_client.manager import KernelManager

folder = tempfile.mkdtemp()
place = {'ip': os.path.join(folder, 'k'), 'connection_file': os.path.join(folder, 'kernel.json')}
manager = KernelManager(transport='ipc', **place)
manager.start_kernel()
client = manager.client()
client.start_channels()
told = []
try:
    client.wait_for_ready(timeout=60)
    hook = lambda message: told.append(message['content'].get('text') or message['content'].get('evalue') or '')
    client.execute_interactive('import sys; print(sys.executable)', timeout=60, output_hook=hook)
finally:
    client.stop_channels()
    manager.shutdown_kernel(now=True)
answered = ''.join(told).strip()
print('the cell was run by', answered)
sys.exit(answered != sys.executable)
";

/// The rehearsal of a set that notebooks should know: its name and its text.
pub fn kernel_rehearsal(set: &LibrarySet, interpreter: &str) -> Option<(String, String)> {
    let shown = set.kernel.as_ref()?;
    let (name, tool, runtime) = (format!("{}-notebook", set.name), &set.name, &set.of);
    let text = format!(
        "rehearsal = \"{name}\"\nsummary = {}\ntools = [\"{tool}\", \"{runtime}\"]\nfiles = {{ \"kernel.py\" = {} }}\n\
         steps = [{{ name = \"a cell is run\", run = [\"{interpreter}\", \"kernel.py\"], \
         variables = {{ PYTHONPATH = \"@{tool}.folder@/site\" }}, expect = {{ stdout = '^the cell was run by /' }} }}]\n",
        quoted(&format!("The notebook kernel {shown} runs a cell")),
        quoted(SCRIPT),
    );
    Some((name, text))
}
