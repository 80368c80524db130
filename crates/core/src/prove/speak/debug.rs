//! A debug adapter, as an editor would ask it: the handshake, a program that stops at a line, where it stopped.

use std::path::Path;

use kladder_choose::catalog::DebugAdapter;
use serde_json::{Value, json};

use super::{Heard, Said, Talk, options};
use crate::base::event::Finding;

/// What is asked of an adapter that runs in a project's folder, and how each came out.
pub(crate) fn debug(talk: &mut Talk<'_>, ask: &DebugAdapter, folder: &Path, text: &str) -> Vec<Said> {
    let mut client = Client { talk, events: Vec::new() };
    let told = json!({
        "clientID": "kladder", "adapterID": "any", "pathFormat": "path", "linesStartAt1": true, "columnsStartAt1": true,
    });
    let (began, answer) = Said::of("answers its editor", || client.request("initialize", told));
    let mut all = vec![began];
    if answer.is_some() {
        all.push(Said::of("stops where it is told to", || client.stop(ask, folder, text)).0);
        // Whoever does not end politely is ended.
        let _ = client.request("disconnect", json!({ "terminateDebuggee": true }));
    }
    all
}

struct Client<'c, 't> {
    talk: &'c mut Talk<'t>,
    /// Events that were heard and nobody waited for yet.
    events: Vec<Value>,
}

impl Client<'_, '_> {
    fn stop(&mut self, ask: &DebugAdapter, folder: &Path, text: &str) -> Heard<()> {
        let Some(line) = text.lines().position(|line| line.contains(&ask.stops_at)).map(|line| line + 1) else {
            return Err(Finding::NoneLike { pattern: ask.stops_at.clone(), seen: Vec::new() });
        };
        // Some answer to the start only after they were told all.
        let started = self.say("launch", options(&ask.launch, folder));
        self.event("initialized")?;
        let source = json!({ "path": ask.file.below(folder).display().to_string() });
        self.request("setBreakpoints", json!({ "source": source, "breakpoints": [{ "line": line }] }))?;
        self.request("configurationDone", json!({}))?;
        self.answer("launch", started)?;
        let stopped = self.event("stopped")?;
        let thread = stopped["body"]["threadId"].clone();
        let frames = self.request("stackTrace", json!({ "threadId": thread, "levels": 1 }))?;
        let frame = &frames["stackFrames"][0];
        if frame["line"] == line {
            return Ok(());
        }
        let seen = vec![format!("{} line {}", frame["source"]["name"].as_str().unwrap_or("?"), frame["line"])];
        Err(Finding::NoneLike { pattern: format!("line {line}"), seen })
    }

    /// Sends a request; tells its number.
    fn say(&mut self, command: &str, arguments: Value) -> i64 {
        let number = self.talk.next_number();
        self.talk.say(&json!({ "seq": number, "type": "request", "command": command, "arguments": arguments }));
        number
    }

    fn request(&mut self, command: &str, arguments: Value) -> Heard<Value> {
        let number = self.say(command, arguments);
        self.answer(command, number)
    }

    /// Waits for the answer to a request.
    fn answer(&mut self, command: &str, number: i64) -> Heard<Value> {
        let is_it = |heard: &Value| heard["type"] == "response" && heard["request_seq"] == number;
        loop {
            if let Some(at) = self.events.iter().position(is_it) {
                let answer = self.events.remove(at);
                if answer["success"] == false {
                    let said = answer["body"]["error"]["format"].as_str().or(answer["message"].as_str());
                    let said = said.unwrap_or_default().to_owned();
                    return Err(Finding::Refused { to: command.to_owned(), said });
                }
                return Ok(answer["body"].clone());
            }
            self.take(command)?;
        }
    }

    /// Waits for an event.
    fn event(&mut self, name: &str) -> Heard<Value> {
        loop {
            if let Some(at) = self.events.iter().position(|heard| heard["type"] == "event" && heard["event"] == name) {
                return Ok(self.events.remove(at));
            }
            // A program that is over does not stop any more, and a start that failed is told.
            let is_over = |heard: &&Value| heard["event"] == "terminated";
            let has_failed = |heard: &&Value| heard["type"] == "response" && heard["success"] == false;
            if let Some(over) = self.events.iter().find(|heard| is_over(heard) || has_failed(heard)) {
                let said = over["message"].as_str().unwrap_or("the program is over").to_owned();
                return Err(Finding::Refused { to: name.to_owned(), said });
            }
            self.take(name)?;
        }
    }

    /// Takes in the next message; what the adapter asks of an editor is refused.
    fn take(&mut self, what: &str) -> Heard<()> {
        let heard = self.talk.hear(what)?;
        if heard["type"] == "request" {
            let number = self.talk.next_number();
            self.talk.say(&json!({
                "seq": number, "type": "response", "request_seq": heard["seq"], "command": heard["command"], "success": false,
            }));
        } else if heard["event"] != "output" {
            self.events.push(heard);
        }
        Ok(())
    }
}
