//! The configuration: a TOML file with the user's own loads.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use yard_step_engine::load::{ManualLoad, OutsideSpec};
use yard_step_scenes::Scene;

use crate::failure::Failure;
use crate::input;
use crate::output::replace;

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Config {
    #[serde(default)]
    load: BTreeMap<String, OutsideSpec>,
}

/// The user's own loads, from the file that was named or the one in its usual place. Only a file
/// that was named must be there.
pub(crate) fn read(
    named: Option<&Path>,
    usual: Option<PathBuf>,
) -> Result<Vec<OutsideSpec>, Failure> {
    let Some(path) = named.map(Path::to_owned).or(usual) else { return Ok(Vec::new()) };
    let wrong = |cause: &dyn std::fmt::Display| {
        Failure::usage(format!("configuration {}: {cause}", path.display()))
    };
    if named.is_none() && !path.exists() {
        return Ok(Vec::new());
    }
    let text = input::text(&path).map_err(|error| wrong(&error))?;
    parse(&text).map_err(|cause| wrong(&cause))
}

/// Adds a load to a configuration, which is made where there is none. What is in it stays as it was written.
///
/// # Errors
/// What is there cannot be read, there is a load of that name, or the file cannot be written.
pub(crate) fn add(path: &Path, spec: &OutsideSpec) -> Result<(), Failure> {
    let wrong = |cause: &dyn std::fmt::Display| {
        Failure::failed(format!("configuration {}: {cause}", path.display()))
    };
    let before = if path.exists() {
        input::text(path).map_err(|error| wrong(&error))?
    } else {
        String::new()
    };
    let table = Added { load: BTreeMap::from([(spec.name.clone(), spec)]) };
    let table = toml::to_string(&table).map_err(|error| wrong(&error))?;
    let text = match before.trim_end_matches('\n') {
        "" => table,
        before => format!("{before}\n\n{table}"),
    };
    parse(&text).map_err(|cause| wrong(&cause))?;
    // Whole or not at all: a configuration that is half written is none. A link stays one.
    let path = &path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let place = path.parent().map_or(Ok(()), std::fs::create_dir_all);
    let written = place.and_then(|()| replace(path, text.as_bytes()));
    written.map_err(|error| wrong(&error))
}

#[derive(Serialize)]
struct Added<'a> {
    load: BTreeMap<String, &'a OutsideSpec>,
}

fn parse(text: &str) -> Result<Vec<OutsideSpec>, String> {
    let config: Config = toml::from_str(text).map_err(|error| error.to_string())?;
    let mut loads = Vec::new();
    for (name, spec) in config.load {
        if name.parse::<Scene>().is_ok() || name == ManualLoad::NAME {
            return Err(format!(
                "load {name}: there is a load of that name already; choose another"
            ));
        }
        let spec = OutsideSpec { name, ..spec };
        spec.check().map_err(|error| error.to_string())?;
        loads.push(spec);
    }
    Ok(loads)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use yard_step_core::Verdict;

    #[test]
    fn a_load_is_read_with_all_that_is_said_of_it() {
        let loads = parse(
            "[load.harbour]\ncommand = \"harbour-bench\"\nargs = [\"--loop\"]\n\
             score = \"score: ([0-9.]+)\"\nseconds = 90\nsuccess = [0, 3]\n\
             [[load.harbour.failure]]\npattern = \"mismatch\"\n\
             [[load.harbour.failure]]\npattern = \"device\"\nverdict = \"load died\"\n\
             [load.quay]\ncommand = \"quay\"\nprotocol = true\n",
        )
        .unwrap();
        assert_eq!(
            loads.iter().map(|load| load.name.as_str()).collect::<Vec<_>>(),
            ["harbour", "quay"]
        );
        let verdicts: Vec<Verdict> = loads[0].failure.iter().map(|rule| rule.verdict).collect();
        assert_eq!(verdicts, [Verdict::Artifacts, Verdict::LoadDied]);
        assert!(loads[1].protocol && loads[1].success == [0]);
    }

    #[rstest]
    #[case("[load.kiln]\ncommand = \"x\"", "there is a load of that name already")]
    #[case("[load.manual]\ncommand = \"x\"", "there is a load of that name already")]
    #[case("[load.a]\ncommand = \" \"", "load a: command is empty")]
    #[case("[load.a]\ncommand = \"x\"\nscore = \"(\"", "load a: the pattern \"(\"")]
    #[case("[load.a]\ncommand = \"x\"\nscore = \"fps\"", "has no group")]
    #[case("[load.a]\ncommand = \"x\"\nseconds = -1", "seconds must be above 0")]
    #[case("[load.a]\ncommand = \"x\"\ncolour = 1", "unknown field `colour`")]
    #[case("[load.a]\nargs = []", "missing field `command`")]
    #[case(
        "[load.a]\ncommand = \"x\"\n[[load.a.failure]]\npattern = \"x\"\nverdict = \"bad\"",
        "unknown variant `bad`"
    )]
    #[case("loads = 1", "unknown field `loads`")]
    fn what_is_wrong_is_said(#[case] text: &str, #[case] told: &str) {
        let error = parse(text).unwrap_err();
        assert!(error.contains(told), "{error}");
    }

    #[test]
    fn a_load_is_added_behind_what_is_there_and_a_link_stays_one() {
        let dir = tempfile::tempdir().unwrap();
        let (kept, link) = (dir.path().join("kept.toml"), dir.path().join("config.toml"));
        std::fs::write(&kept, "# mine\n[load.quay]\ncommand = \"quay\"").unwrap();
        std::os::unix::fs::symlink(&kept, &link).unwrap();
        let words = ["sh".to_owned(), "a \"b\"".to_owned()];
        let spec = OutsideSpec { name: "pier".into(), ..OutsideSpec::of_command(&words) };
        add(&link, &spec).unwrap();
        assert!(
            link.is_symlink()
                && std::fs::read_to_string(&kept).unwrap().starts_with("# mine\n[load.quay]")
        );
        let read = read(Some(&link), None).unwrap();
        assert_eq!(read.iter().find(|load| load.name == "pier"), Some(&spec));
        let again = add(&link, &spec).unwrap_err();
        assert!(again.text().contains("duplicate key"), "{}", again.text());
        // A place that is not there yet is made.
        let new = dir.path().join("deeper").join("config.toml");
        add(&new, &spec).unwrap();
        assert_eq!(super::read(Some(&new), None).unwrap(), [spec]);
    }

    #[rstest]
    #[case("[load.quay")]
    #[case("[load.quay]\ncolour = 1")]
    fn a_configuration_that_cannot_be_read_is_not_added_to(#[case] text: &str) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("config.toml");
        std::fs::write(&path, text).unwrap();
        let spec = OutsideSpec { name: "pier".into(), ..OutsideSpec::of_command(&["sh".into()]) };
        assert!(add(&path, &spec).is_err());
        assert_eq!(std::fs::read_to_string(&path).unwrap(), text);
    }

    #[test]
    fn a_file_that_was_named_must_be_there_and_the_usual_one_needs_not() {
        let missing = PathBuf::from("/nowhere/config.toml");
        assert!(read(None, Some(missing.clone())).unwrap().is_empty());
        assert!(read(Some(&missing), None).unwrap_err().text().contains("/nowhere/config.toml"));
    }
}
