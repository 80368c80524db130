//! What is configured for the ordinary clients of this machine, read as files: where pip and npm look for packages.

use std::path::PathBuf;

use kladder_choose::address::YardAddress;

use super::{Around, Asking, IndexError};
use crate::base::files;
use crate::bring::fetch::{Authorization, is_bare};
use crate::settings::{IndexKind, IndexSetting};

/// Where an index is, with a slash at its end, and who asks there.
#[derive(Clone, Debug)]
pub(super) struct Address {
    pub(super) url: String,
    pub(super) authorization: Option<Authorization>,
}

pub(super) fn address(setting: &IndexSetting, asking: &Asking<'_>, around: &Around) -> Result<Address, IndexError> {
    let own = setting.address.clone().map(|url| Address { url, authorization: None });
    let configured = || match setting.kind {
        IndexKind::Python => pip(around),
        IndexKind::Npm => npm(around, asking.project),
        _ => None,
    };
    let client = setting.kind.client().unwrap_or_default();
    let missing = || IndexError::NotConfigured { index: asking.index.to_owned(), client };
    let Address { url, authorization } = own.or_else(configured).ok_or_else(missing)?;
    let url = asking.network.origins.mirrored(&url);
    Ok(Address { url, authorization })
}

fn variable(around: &Around, name: &str) -> Option<String> {
    around.environment.get(name).and_then(|value| value.to_str()).filter(|value| !value.is_empty()).map(str::to_owned)
}

fn at(url: &str) -> Option<Address> {
    let server = YardAddress::new(url.trim(), std::path::Path::new("/")).ok()?;
    let YardAddress::Server(url) = server else { return None };
    Some(Address { url: format!("{}/", url.trim_end_matches('/')), authorization: None })
}

/// pip: the environment before files, the person's files before the system's.
fn pip(around: &Around) -> Option<Address> {
    let named = variable(around, "PIP_CONFIG_FILE").map(PathBuf::from);
    let home = |path: &str| around.home.as_ref().map(|home| home.join(path));
    let settings = variable(around, "XDG_CONFIG_HOME").map(PathBuf::from).or_else(|| home(".config"));
    let system = ["/etc/pip.conf", "/etc/xdg/pip/pip.conf"].map(PathBuf::from);
    let own = [named, settings.map(|folder| folder.join("pip/pip.conf")), home(".pip/pip.conf")];
    let mut files = own.into_iter().flatten().chain(system);
    let in_file = |file: PathBuf| {
        let all = ini::Ini::load_from_str(&files::text_of_at_most(&file, 1 << 20)?).ok()?;
        let of =
            |section| all.get_from(Some(section), "index-url").or_else(|| all.get_from(Some(section), "index_url"));
        of("install").or_else(|| of("global")).map(str::to_owned)
    };
    at(&variable(around, "PIP_INDEX_URL").or_else(|| files.find_map(in_file))?)
}

/// npm: a scope can have a registry of its own; `//HOST/PATH/:_authToken` signs in there.
fn npm(around: &Around, project: &str) -> Option<Address> {
    let named = variable(around, "NPM_CONFIG_USERCONFIG").or_else(|| variable(around, "npm_config_userconfig"));
    let own = named.map(PathBuf::from).or_else(|| around.home.as_ref().map(|home| home.join(".npmrc")));
    let files = own.into_iter().chain(["/etc/npmrc", "/usr/etc/npmrc", "/usr/local/etc/npmrc"].map(PathBuf::from));
    let texts: Vec<String> = files.filter_map(|file| files::text_of_at_most(&file, 1 << 20)).collect();
    let lines: Vec<(&str, String)> =
        texts.iter().flat_map(|text| text.lines()).filter_map(|line| pair(line, around)).collect();
    let value = |name: &str| lines.iter().find(|(key, _)| *key == name).map(|(_, value)| value.clone());
    let scope = project.strip_prefix('@').and_then(|rest| rest.split('/').next());
    let scoped = scope.and_then(|scope| value(&format!("@{scope}:registry")));
    let variable = || variable(around, "npm_config_registry").or_else(|| variable(around, "NPM_CONFIG_REGISTRY"));
    let address = at(&scoped.or_else(variable).or_else(|| value("registry"))?)?;
    let token = value(&format!("{}:_authToken", address.url.split_once(':')?.1));
    let token = token.filter(|_| !is_bare(&address.url));
    Some(Address { authorization: token.map(|token| Authorization::bearer(&token)), ..address })
}

/// `KEY = VALUE`, with `${VARIABLE}` filled in.
fn pair<'l>(line: &'l str, around: &Around) -> Option<(&'l str, String)> {
    let (key, value) = line.split_once('=').filter(|_| !line.trim_start().starts_with(['#', ';']))?;
    let mut filled = value.trim().trim_matches('"').to_owned();
    while let Some((front, (name, rest))) = filled.split_once("${").and_then(|(f, r)| Some((f, r.split_once('}')?))) {
        filled = [front, &variable(around, name)?, rest].concat();
    }
    Some((key.trim(), filled))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn around(files: &[(&str, &str)], variables: &[(&str, &str)]) -> (tempfile::TempDir, Around) {
        let home = tempfile::tempdir().unwrap();
        for (path, text) in files {
            std::fs::create_dir_all(home.path().join(path).parent().unwrap()).unwrap();
            std::fs::write(home.path().join(path), text).unwrap();
        }
        let environment = variables.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect();
        let around = Around { environment, home: Some(home.path().to_path_buf()), cache: PathBuf::new() };
        (home, around)
    }

    #[test]
    fn pip_is_asked_in_its_own_order() {
        let file = ("/.config/pip/pip.conf", "[global]\nindex-url = https://wheels.example/simple\n");
        let file = (&file.0[1..], file.1);
        let (_home, both) = around(&[file], &[("PIP_INDEX_URL", "https://env.example/simple/")]);
        assert_eq!(pip(&both).unwrap().url, "https://env.example/simple/");
        let (_home, one) = around(&[file], &[]);
        assert_eq!(pip(&one).unwrap().url, "https://wheels.example/simple/");
    }

    #[test]
    fn npm_has_scopes_and_tokens() {
        let file = "registry=https://one.example/npm\n@skerrow:registry=https://two.example/\n//one.example/npm/:_authToken=${TOKEN}\n; x=y\n";
        let (_home, around) = around(&[(".npmrc", file)], &[("TOKEN", "gannet")]);
        let one = npm(&around, "lint").unwrap();
        assert_eq!(
            (one.url.as_str(), one.authorization.unwrap().value()),
            ("https://one.example/npm/", "Bearer gannet")
        );
        let two = npm(&around, "@skerrow/lint").unwrap();
        assert_eq!((two.url.as_str(), two.authorization.is_none()), ("https://two.example/", true));
    }
}
