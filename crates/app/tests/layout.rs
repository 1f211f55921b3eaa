//! What holds of the source as a whole: no two modules of a crate import each other, however many
//! stand between them.
#![allow(clippy::unwrap_used, missing_docs)]

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// A module: where its text lies, and what it passes on under its own name.
#[derive(Default)]
struct Module {
    file: PathBuf,
    text: String,
    /// Names that it re-exports, with the path they come from.
    passed_on: Vec<(String, Vec<String>)>,
}

/// The modules of a crate by their path from its root.
type Modules = BTreeMap<Vec<String>, Module>;

fn words(path: &[&str]) -> Vec<String> {
    path.iter().map(|&word| word.to_owned()).collect()
}

/// The text without comments, and without what is compiled for tests only.
fn stripped(text: &str) -> String {
    let mut out = String::new();
    let (mut depth, mut is_test) = (0_i32, false);
    for line in text.lines() {
        let line = line.split("//").next().unwrap_or_default();
        if line.trim() == "#[cfg(test)]" {
            is_test = true;
            depth = 0;
            continue;
        }
        if is_test {
            depth += line.matches('{').count() as i32 - line.matches('}').count() as i32;
            // Over with the closing brace, or with a declaration that has none.
            is_test = depth > 0 || !(line.contains('}') || line.trim_end().ends_with(';'));
            continue;
        }
        out.push_str(line);
        out.push('\n');
    }
    out
}

fn modules_of(source: &Path) -> Modules {
    let mut modules = Modules::new();
    read_folder(source, &[], &mut modules);
    for (path, module) in &mut modules {
        let text = module.text.clone();
        for (is_public, tree) in uses(&text) {
            if is_public {
                for target in expanded(&tree) {
                    let absolute = absolute(path, &target);
                    let name = target.last().unwrap().clone();
                    module.passed_on.push((name, absolute));
                }
            }
        }
    }
    modules
}

fn read_folder(folder: &Path, path: &[String], modules: &mut Modules) {
    for entry in fs::read_dir(folder).unwrap().flatten() {
        let file = entry.path();
        let stem = file.file_stem().unwrap().to_string_lossy().into_owned();
        if file.is_dir() {
            let below = [path, &[stem]].concat();
            read_folder(&file, &below, modules);
        } else if file.extension().is_some_and(|ending| ending == "rs") {
            let is_root = matches!(stem.as_str(), "mod" | "lib" | "main");
            if matches!(stem.as_str(), "tests" | "fixtures" | "main" | "whole_climbs") {
                continue;
            }
            let own = if is_root { path.to_vec() } else { [path, &[stem]].concat() };
            let text = stripped(&fs::read_to_string(&file).unwrap());
            modules.insert(own, Module { file, text, passed_on: Vec::new() });
        }
    }
}

/// Every `use` of a text: whether it is public, and what stands behind it.
fn uses(text: &str) -> Vec<(bool, String)> {
    let mut found = Vec::new();
    for statement in text.split(';') {
        let Some(at) = statement.rfind("use ") else { continue };
        let before = statement[..at].lines().last().unwrap_or_default().trim();
        if before.is_empty() || before.starts_with("pub") {
            found.push((before.starts_with("pub"), statement[at + 4..].replace(['\n', ' '], "")));
        }
    }
    found
}

/// The paths that a tree such as `a::{b, c::{d, e}}` stands for.
fn expanded(tree: &str) -> Vec<Vec<String>> {
    let Some((head, rest)) = tree.split_once('{') else {
        let plain = tree.split("as").next().unwrap_or_default();
        let plain = if tree.contains("as_") { tree } else { plain };
        return vec![words(&plain.split("::").filter(|word| !word.is_empty()).collect::<Vec<_>>())];
    };
    let head = words(&head.split("::").filter(|word| !word.is_empty()).collect::<Vec<_>>());
    let inner = rest.strip_suffix('}').unwrap_or(rest);
    let (mut parts, mut depth, mut part) = (Vec::new(), 0, String::new());
    for c in inner.chars() {
        match c {
            '{' => depth += 1,
            '}' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(std::mem::take(&mut part));
                continue;
            }
            _ => {}
        }
        part.push(c);
    }
    parts.push(part);
    let below = parts.iter().filter(|part| !part.is_empty()).flat_map(|part| expanded(part));
    below.map(|tail| [head.as_slice(), &tail].concat()).collect()
}

/// A path as it is written in a module, from the root of the crate.
fn absolute(module: &[String], path: &[String]) -> Vec<String> {
    let mut base = module.to_vec();
    let mut rest = path;
    match path.first().map(String::as_str) {
        Some("crate") => {
            base.clear();
            rest = &path[1..];
        }
        Some("self") => rest = &path[1..],
        Some("super") => {}
        _ => {}
    }
    while rest.first().is_some_and(|word| word == "super") {
        base.pop();
        rest = &rest[1..];
    }
    [base.as_slice(), rest].concat()
}

/// The module in which the last word of a path is defined.
fn defined_in(modules: &Modules, path: &[String], depth: usize) -> Option<Vec<String>> {
    let known = (0..=path.len()).rev().find(|end| modules.contains_key(&path[..*end]))?;
    let module = &modules[&path[..known]];
    let Some(name) = path.get(known) else { return Some(path[..known].to_vec()) };
    let passed = module.passed_on.iter().find(|(passed, _)| passed == name);
    match passed.filter(|_| depth < 10) {
        Some((_, from)) => defined_in(modules, from, depth + 1),
        None => Some(path[..known].to_vec()),
    }
}

/// Which modules each module imports from.
fn imports(modules: &Modules) -> BTreeMap<Vec<String>, BTreeSet<Vec<String>>> {
    let mut edges = BTreeMap::<_, BTreeSet<_>>::new();
    for (path, module) in modules {
        let mut targets: Vec<Vec<String>> = uses(&module.text)
            .into_iter()
            .filter(|(is_public, _)| !is_public)
            .flat_map(|(_, tree)| expanded(&tree))
            .collect();
        // Paths that are written out where they are used.
        for start in ["crate::", "super::"] {
            for (at, _) in module.text.match_indices(start) {
                let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == ':';
                let end =
                    module.text[at..].find(|c| !is_word(c)).map_or(module.text.len(), |e| at + e);
                let written = module.text[at..end].split("::").filter(|word| !word.is_empty());
                targets.push(words(&written.collect::<Vec<_>>()));
            }
        }
        for target in targets {
            let is_ours = target.first().is_some_and(|first| {
                matches!(first.as_str(), "crate" | "super" | "self")
                    || modules
                        .contains_key(&[path.as_slice(), std::slice::from_ref(first)].concat())
            });
            let found = is_ours.then(|| absolute(path, &target));
            let found = found.and_then(|target| defined_in(modules, &target, 0));
            if let Some(found) = found.filter(|found| found != path && !found.is_empty()) {
                edges.entry(path.clone()).or_default().insert(found);
            }
        }
    }
    edges
}

/// Groups of modules that reach one another, largest first.
fn circles(edges: &BTreeMap<Vec<String>, BTreeSet<Vec<String>>>) -> Vec<Vec<String>> {
    let reach = |from: &Vec<String>| {
        let (mut seen, mut open) = (BTreeSet::new(), vec![from.clone()]);
        while let Some(next) = open.pop() {
            for target in edges.get(&next).into_iter().flatten() {
                if seen.insert(target.clone()) {
                    open.push(target.clone());
                }
            }
        }
        seen
    };
    let all: BTreeMap<_, _> = edges.keys().map(|module| (module, reach(module))).collect();
    let mut found = BTreeSet::new();
    for (module, reached) in &all {
        if !reached.contains(*module) {
            continue;
        }
        let members = reached
            .iter()
            .filter(|other| all.get(other).is_some_and(|back| back.contains(*module)));
        found.insert(members.map(|member| member.join("::")).collect::<Vec<_>>());
    }
    let mut found: Vec<_> = found.into_iter().collect();
    found.sort_by_key(|circle| std::cmp::Reverse(circle.len()));
    found
}

#[test]
fn no_modules_of_a_crate_import_each_other() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut told = String::new();
    for folder in fs::read_dir(crates).unwrap().flatten() {
        let modules = modules_of(&folder.path().join("src"));
        assert!(!modules.is_empty(), "{folder:?}");
        let edges = imports(&modules);
        assert!(modules.len() < 4 || !edges.is_empty(), "nothing was read of {folder:?}");
        for circle in circles(&edges) {
            let name = folder.file_name().to_string_lossy().into_owned();
            told += &format!("{name}: {}\n", circle.join(", "));
            if std::env::var_os("YARD_STEP_EDGES").is_some() {
                for member in &circle {
                    let key: Vec<String> = member.split("::").map(str::to_owned).collect();
                    let inside = edges[&key].iter().map(|to| to.join("::"));
                    let inside: Vec<_> = inside.filter(|to| circle.contains(to)).collect();
                    told += &format!("    {member} -> {}\n", inside.join(", "));
                }
            }
        }
    }
    assert!(told.is_empty(), "modules that import each other:\n{told}");
}

#[test]
fn a_circle_is_found_through_names_that_are_passed_on() {
    let module = |text: &str| Module { text: text.into(), ..Module::default() };
    let mut modules = Modules::new();
    modules.insert(vec![], module(""));
    modules.insert(words(&["a"]), module("pub use one::One;\nmod one;"));
    modules.insert(words(&["a", "one"]), module("use crate::b::Two;\n"));
    modules.insert(words(&["b"]), module("use crate::a::{One, Other};\n"));
    modules.get_mut(&words(&["a"])[..]).unwrap().passed_on =
        vec![("One".into(), words(&["a", "one", "One"]))];
    let circles = circles(&imports(&modules));
    assert_eq!(circles, [["a::one", "b"]]);
    assert_eq!(expanded("a::{b,c::{d,e}}").len(), 3);
    let file = modules[&words(&["b"])[..]].file.clone();
    assert_eq!(file, PathBuf::new());
}

/// What a crate above `card` needs to know of stand-ins: the study is about them, the demo makes a
/// history of theirs, and the slot holds one.
const ABOUT_STAND_INS: [&str; 3] =
    ["app/src/commands/study.rs", "app/src/commands/demo.rs", "app/src/commands/slot.rs"];

#[test]
fn nothing_above_the_cards_names_a_kind_of_card() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).parent().unwrap();
    let mut named = Vec::new();
    for name in ["engine", "ledger", "report", "app"] {
        let mut modules = Modules::new();
        read_folder(&crates.join(name).join("src"), &[], &mut modules);
        for module in modules.values() {
            let file = module.file.strip_prefix(crates).unwrap().display().to_string();
            let kinds = ["StandIn", "CardChoice", "BriefCard", "SlotCard", "stand_in()"];
            let found = kinds.into_iter().filter(|kind| module.text.contains(kind));
            if !ABOUT_STAND_INS.contains(&file.as_str()) {
                named.extend(found.map(|kind| format!("{file}: {kind}")));
            }
        }
    }
    assert_eq!(named, Vec::<String>::new(), "a card is reached through connect(address)");
}
