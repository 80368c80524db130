//! A language server, as an editor would ask it: the handshake, a file with a mistake, what it offers at a place.

use std::path::Path;

use kladder_choose::catalog::{Completes, LanguageServer, Pattern};
use serde_json::{Value, json};

use super::{Heard, Said, Talk, options, uri};
use crate::base::event::Finding;

/// What is asked of a server that runs in a project's folder, and how each came out.
pub(crate) fn serve(talk: &mut Talk<'_>, ask: &LanguageServer, folder: &Path, text: &str) -> Vec<Said> {
    let mut editor = Editor { talk, seen: Vec::new(), at: uri(&ask.file.below(folder)) };
    let (began, capabilities) = Said::of("answers its editor", || editor.begin(ask, folder));
    let mut all = vec![began];
    let Some(capabilities) = capabilities else { return all };
    editor.open(ask, text);
    if let Some(pattern) = &ask.finds {
        all.push(Said::of("finds the mistake", || editor.find(pattern, &capabilities)).0);
    }
    if let Some(completes) = &ask.completes {
        all.push(Said::of("completes", || editor.complete(completes, text)).0);
    }
    editor.end();
    all
}

struct Editor<'e, 't> {
    talk: &'e mut Talk<'t>,
    /// Messages of diagnostics for the file, as they were published last.
    seen: Vec<String>,
    /// The file.
    at: String,
}

impl Editor<'_, '_> {
    /// The handshake; tells what the server can do.
    fn begin(&mut self, ask: &LanguageServer, folder: &Path) -> Heard<Value> {
        let root = uri(folder);
        let capabilities = json!({
            "workspace": { "configuration": true, "workspaceFolders": true },
            "textDocument": {
                "synchronization": {},
                "publishDiagnostics": {},
                "diagnostic": {},
                "completion": { "completionItem": { "snippetSupport": false } },
            },
            "general": { "positionEncodings": ["utf-16"] },
        });
        let told = ask.options.as_ref().map_or(Value::Null, |table| options(table, folder));
        let answer = self.request(
            "initialize",
            json!({
                "processId": null, "rootUri": root, "capabilities": capabilities, "initializationOptions": told,
                "workspaceFolders": [{ "uri": root, "name": "project" }],
            }),
        )?;
        self.notify("initialized", json!({}));
        Ok(answer["capabilities"].clone())
    }

    fn open(&mut self, ask: &LanguageServer, text: &str) {
        let document = json!({ "uri": self.at, "languageId": ask.language, "version": 1, "text": text });
        self.notify("textDocument/didOpen", json!({ "textDocument": document }));
    }

    /// Waits until a diagnostic is like a pattern; asks for them where the server wants to be asked.
    fn find(&mut self, pattern: &Pattern, capabilities: &Value) -> Heard<()> {
        let regex = pattern.regex();
        if capabilities.get("diagnosticProvider").is_some_and(Value::is_object) {
            let asked = json!({ "textDocument": { "uri": self.at } });
            // One that does not answer that may still publish them.
            if let Ok(answer) = self.request("textDocument/diagnostic", asked) {
                self.seen.extend(messages(&answer["items"]));
            }
        }
        while !self.seen.iter().any(|message| regex.is_match(message)) {
            let heard = self.talk.hear("textDocument/didOpen");
            let message = heard.map_err(|finding| match finding {
                Finding::Silent { .. } => {
                    Finding::NoneLike { pattern: pattern.as_str().to_owned(), seen: self.seen.clone() }
                }
                other => other,
            })?;
            self.take(&message);
        }
        Ok(())
    }

    fn complete(&mut self, completes: &Completes, text: &str) -> Heard<()> {
        let Some(place) = place_behind(text, &completes.after) else {
            return Err(Finding::NoneLike { pattern: completes.after.clone(), seen: Vec::new() });
        };
        let answer = self.request(
            "textDocument/completion",
            json!({ "textDocument": { "uri": self.at }, "position": place, "context": { "triggerKind": 1 } }),
        )?;
        let items = if answer.is_array() { &answer } else { &answer["items"] };
        let labels = items.as_array().into_iter().flatten().filter_map(|item| item["label"].as_str());
        let labels: Vec<String> = labels.map(|label| label.trim().to_owned()).collect();
        let regex = completes.like.regex();
        if labels.iter().any(|label| regex.is_match(label)) {
            return Ok(());
        }
        let seen = labels.into_iter().take(20).collect();
        Err(Finding::NoneLike { pattern: completes.like.as_str().to_owned(), seen })
    }

    fn end(&mut self) {
        // Whoever does not end politely is ended.
        let _ = self.request("shutdown", Value::Null);
        self.notify("exit", Value::Null);
    }

    /// Asks, and waits for the answer; meanwhile the server may tell and ask as well.
    fn request(&mut self, method: &str, parameters: Value) -> Heard<Value> {
        let number = self.talk.next_number();
        self.talk.say(&message(Some(&json!(number)), method, parameters));
        loop {
            let heard = self.talk.hear(method)?;
            if heard["id"] == number && heard.get("method").is_none() {
                return match heard.get("error") {
                    Some(error) => {
                        let said = error["message"].as_str().unwrap_or_default().to_owned();
                        Err(Finding::Refused { to: method.to_owned(), said })
                    }
                    None => Ok(heard["result"].clone()),
                };
            }
            self.take(&heard);
        }
    }

    fn notify(&mut self, method: &str, parameters: Value) {
        self.talk.say(&message(None, method, parameters));
    }

    /// What the server tells or asks by itself.
    fn take(&mut self, heard: &Value) {
        let Some(method) = heard["method"].as_str() else { return };
        if method == "textDocument/publishDiagnostics" && heard["params"]["uri"].as_str() == Some(self.at.as_str()) {
            self.seen = messages(&heard["params"]["diagnostics"]).collect();
        }
        let Some(number) = heard.get("id") else { return };
        let answer = match method {
            // Nothing is set: one answer for each that is asked.
            "workspace/configuration" => {
                Value::Array(heard["params"]["items"].as_array().into_iter().flatten().map(|_| Value::Null).collect())
            }
            _ => Value::Null,
        };
        self.talk.say(&json!({ "jsonrpc": "2.0", "id": number, "result": answer }));
    }
}

fn message(number: Option<&Value>, method: &str, parameters: Value) -> Value {
    let mut message = json!({ "jsonrpc": "2.0", "method": method });
    if !parameters.is_null() {
        message["params"] = parameters;
    }
    if let Some(number) = number {
        message["id"] = number.clone();
    }
    message
}

fn messages(diagnostics: &Value) -> impl Iterator<Item = String> {
    let all = diagnostics.as_array().cloned().unwrap_or_default();
    all.into_iter().filter_map(|one| one["message"].as_str().map(str::to_owned))
}

/// The place behind the first of these: line and UTF-16 unit, both from 0.
fn place_behind(text: &str, after: &str) -> Option<Value> {
    let end = text.find(after)? + after.len();
    let line = text[..end].matches('\n').count();
    let start = text[..end].rfind('\n').map_or(0, |at| at + 1);
    Some(json!({ "line": line, "character": text[start..end].encode_utf16().count() }))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_place_is_told_in_lines_and_units() {
        assert_eq!(place_behind("a\nö𝄞b", "𝄞"), Some(json!({ "line": 1, "character": 3 })));
        assert_eq!(place_behind("give", "giv"), Some(json!({ "line": 0, "character": 3 })));
        assert_eq!(place_behind("give", "x"), None);
    }
}
