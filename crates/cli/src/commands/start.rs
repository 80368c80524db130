//! `kladder start`

mod dialogue;
mod from;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use kladder_choose::catalog::{Catalogs, Preset};
use kladder_choose::ladder::STARTER;
use kladder_choose::pins::OnHost;
use kladder_core::base::files;
use kladder_core::desk::start::{Answers, Question, compose, preset, questions};
use kladder_core::desk::{FILE_NAME, read_ladder};
use kladder_core::host::tools::HostTools;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::clean;

use crate::args::StartOptions;
use crate::context::Context;
use crate::person::is_present;
use crate::render::Out;
use crate::render::text::{FAINT, TOLD, shown, styled};

pub(super) fn run(context: &Context, out: &Out, options: &StartOptions) -> Result<ExitCode, Problem> {
    let path = if options.own { context.around.home.ladder() } else { context.around.folder.join(FILE_NAME) };
    ensure_free(&path)?;
    match &options.from {
        Some(source) => from::take(context, source, &path)?,
        None => guided(context, out, options, &path)?,
    }
    let ladder = read_ladder(&path)?;
    let (format, wishes) = (shapes::Started::FORMAT, ladder.wishes.len());
    out.value(&shapes::Started { format, ladder: shapes::path(&path), wishes })?;
    out.say(format!("{} is written:\n", shown(&path)))?;
    ladder.text.lines().try_for_each(|line| out.verbatim(format!("  {}", clean(line))))?;
    out.say(format!("\nNext: {}", styled(TOLD, "kladder route, then kladder climb")))?;
    Ok(ExitCode::SUCCESS)
}

fn ensure_free(path: &Path) -> Result<(), Problem> {
    if !path.exists() {
        return Ok(());
    }
    Err(Problem::new(Code::Failed, "there is a ladder already")
        .at(path)
        .why("a start never writes over one")
        .next("change it with an editor, or start in another folder"))
}

fn guided(context: &Context, out: &Out, options: &StartOptions, path: &Path) -> Result<(), Problem> {
    let folders = catalog_folders(context)?;
    let catalog = context.around.open_folders(&folders)?;
    let host = HostTools::of(&context.around.host);
    let (preset, answers) = match &options.preset {
        Some(name) => {
            let preset = preset(&catalog, name)?;
            let answers =
                options.answers.as_ref().map(|file| read_answers(&context.around.folder.join(file))).transpose()?;
            let asked = answers.is_none() && is_present(out);
            let answers =
                if asked { dialogue::hold(context, &catalog, &preset, &host)? } else { answers.unwrap_or_default() };
            (preset, answers)
        }
        None if is_present(out) => {
            out.say(styled(FAINT, "Ctrl-C leaves everything as it is."))?;
            dialogue::hold_from_the_start(context, &catalog, &host)?
        }
        None => return Err(nobody_to_ask(&catalog)?),
    };
    let is_starter = folders.first().is_some_and(|folder| folder == Path::new(STARTER));
    let named = folders.first().filter(|_| !context.around.catalogs.is_empty() || is_starter);
    let named = named.map(|folder| if is_starter { STARTER.to_owned() } else { relative(folder, path) });
    let text = compose(&catalog, &preset, &answers, &host, named.as_deref())?;
    if let Some(parent) = path.parent() {
        files::create_folder(parent)?;
    }
    files::replace(path, text.as_bytes())?;
    keep_identity(context, &answers)
}

fn catalog_folders(context: &Context) -> Result<Vec<PathBuf>, Problem> {
    let folders = match context.around.catalogs.as_slice() {
        [] => context.around.home.settings()?.catalogs,
        named => named.to_vec(),
    };
    let folders = if folders.is_empty() { vec![PathBuf::from(STARTER)] } else { folders };
    let real =
        |folder: PathBuf| if folder == Path::new(STARTER) { folder } else { folder.canonicalize().unwrap_or(folder) };
    Ok(folders.into_iter().map(real).collect())
}

fn read_answers(file: &Path) -> Result<Answers, Problem> {
    Ok(files::source(file)?.parse()?)
}

fn nobody_to_ask(catalog: &Catalogs) -> Result<Problem, Problem> {
    let names: Vec<String> = catalog.presets()?.iter().map(|preset| format!("`{}`", preset.preset)).collect();
    Ok(Problem::new(Code::Usage, "there is nobody to ask: this is no terminal")
        .why(format!("the presets: {}", names.join(", ")))
        .next("name one with `--preset`, and what differs from its defaults in a file with `--answers`"))
}

/// The catalog as the ladder should name it: from the ladder's folder, where one lies near the other.
fn relative(catalog: &Path, ladder: &Path) -> String {
    let folder = ladder.parent().and_then(|folder| folder.canonicalize().ok()).unwrap_or_default();
    if let Ok(below) = catalog.strip_prefix(&folder) {
        return below.to_string_lossy().into_owned();
    }
    let beside = folder.parent().and_then(|above| catalog.strip_prefix(above).ok());
    beside.map_or_else(|| catalog.to_string_lossy().into_owned(), |below| format!("../{}", below.display()))
}

fn keep_identity(context: &Context, answers: &Answers) -> Result<(), Problem> {
    let (name, email) = (answers.identity.name.as_deref(), answers.identity.email.as_deref());
    let given: Vec<(&str, &str)> =
        [("name", name), ("email", email)].into_iter().filter_map(|(key, value)| Some((key, value?))).collect();
    if given.is_empty() { Ok(()) } else { Ok(context.around.home.write_identity(&given)?) }
}

/// All questions of a preset on this host.
fn all_questions(
    context: &Context,
    catalog: &Catalogs,
    preset: &Preset,
    host: &dyn OnHost,
) -> Result<Vec<Question>, Problem> {
    Ok(questions(catalog, preset, &context.around.host.machine(), host)?)
}
