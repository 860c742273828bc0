//! Documents that last: of each kind a version, and the way up from every older one.
//!
//! A document of the first version says nothing of its version, unless its kind always has; a later one has a field `version`. What
//! is read goes up step by step, each step from one version to the next: into the old form, then `From` ([`step`]).

mod kinds;

pub use kinds::all_kinds;

use crate::{Error, Result};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use serde_json::Value;
use serde_json::value::RawValue;

/// What takes a document of one version to the next.
pub type Step = fn(Value) -> Result<Value>;

/// A kind of document that is stored or handed on.
pub trait Document: Serialize + DeserializeOwned {
    /// What it is called in a sentence: `plant`.
    const KIND: &'static str;
    /// The ways up: the first takes version 1 to version 2. There is one version more than steps.
    const STEPS: &'static [Step] = &[];
    /// Whether the type itself has a field `version`, in documents of every version.
    const HAS_VERSION: bool = false;
}

/// The version of a kind that this code writes.
#[must_use]
pub fn version_of<T: Document>() -> u32 {
    T::STEPS.len() as u32 + 1
}

/// A step from one form to the next.
///
/// Errors where the document has not the old form.
pub fn step<Old: DeserializeOwned, New: Serialize + From<Old>>(document: Value) -> Result<Value> {
    let new = New::from(serde_json::from_value(document).map_err(not_of_its_form)?);
    serde_json::to_value(new).map_err(not_of_its_form)
}

fn not_of_its_form(error: serde_json::Error) -> Error {
    Error::said("", error.to_string())
}

/// Reads a document of any version that there was.
///
/// Errors where it is of a later version, or not of the form that its version says.
pub fn read<T: Document>(mut document: Value) -> Result<T> {
    let newest = version_of::<T>();
    let version = match document.as_object_mut().and_then(|fields| fields.remove("version")) {
        None if T::HAS_VERSION => return Err(without_version(T::KIND, newest)),
        None => 1,
        Some(found) => match found.as_u64() {
            Some(version) if (1..=u64::from(newest)).contains(&version) => version as usize,
            _ => return Err(of_another_version(T::KIND, &found, newest)),
        },
    };
    for step in &T::STEPS[version - 1..] {
        document = step(document)?;
    }
    if T::HAS_VERSION
        && let Some(fields) = document.as_object_mut()
    {
        fields.insert("version".to_owned(), newest.into());
    }
    serde_json::from_value(document).map_err(not_of_its_form)
}

/// The same from its text; a document of the present version is read at once.
///
/// Errors as [`read`] does, with line and column where the document is of the present version.
pub fn read_text<T: Document>(text: &str) -> Result<T> {
    #[derive(Deserialize)]
    struct OfVersion {
        #[serde(default, deserialize_with = "given")]
        version: Option<Value>,
    }
    fn given<'de, D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Option<Value>, D::Error> {
        Value::deserialize(deserializer).map(Some)
    }
    let is_present = match serde_json::from_str::<OfVersion>(text) {
        Ok(OfVersion { version: None }) => !T::HAS_VERSION && version_of::<T>() == 1,
        Ok(OfVersion { version: Some(version) }) => T::HAS_VERSION && version == version_of::<T>(),
        Err(_) => false,
    };
    if is_present {
        return serde_json::from_str(text).map_err(not_of_its_form);
    }
    read(serde_json::from_str(text).map_err(not_of_its_form)?)
}

fn without_version(kind: &str, newest: u32) -> Error {
    Error::said(
        "version",
        format!("This {kind} does not say of which version it is; a present one has “version”: {newest}."),
    )
}

fn of_another_version(kind: &str, found: &Value, newest: u32) -> Error {
    let known = if newest == 1 { "version 1 only".to_owned() } else { format!("versions 1 to {newest}") };
    Error::said(
        "version",
        format!(
            "This {kind} is of version {found}, and this program reads {known}: open it with the program that wrote it, or a newer one."
        ),
    )
}

/// A document as it is stored: read from any version, written in the present one.
#[derive(Debug, Clone, PartialEq)]
pub struct Stored<T>(pub T);

impl<'de, T: Document> Deserialize<'de> for Stored<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Self, D::Error> {
        let text = Box::<RawValue>::deserialize(deserializer)?;
        read_text(text.get()).map(Self).map_err(serde::de::Error::custom)
    }
}

impl<T: Document> Serialize for Stored<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        Written(&self.0).serialize(serializer)
    }
}

/// A document that is written in the present version, with its number where that is not the first.
#[derive(Debug, Clone, Copy)]
pub struct Written<'a, T>(pub &'a T);

impl<T: Document> Serialize for Written<'_, T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let newest = version_of::<T>();
        if T::HAS_VERSION || newest == 1 {
            return self.0.serialize(serializer);
        }
        let mut document = serde_json::to_value(self.0).map_err(serde::ser::Error::custom)?;
        if let Some(fields) = document.as_object_mut() {
            fields.insert("version".to_owned(), newest.into());
        }
        document.serialize(serializer)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::{Document, Step, Stored, Written, all_kinds, read, read_text, step, version_of};
    use proptest::prelude::*;
    use serde::{Deserialize, Serialize};
    use serde_json::{Value, json};

    /// A lag as it was first: one time, in minutes.
    #[derive(Serialize, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct First {
        minutes: f64,
    }

    /// Then in seconds.
    #[derive(Serialize, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Second {
        time_constant: f64,
    }

    /// And as many as there are.
    #[derive(Debug, PartialEq, Serialize, Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Lags {
        time_constants: Vec<f64>,
    }

    impl From<First> for Second {
        fn from(old: First) -> Self {
            Self { time_constant: 60.0 * old.minutes }
        }
    }

    impl From<Second> for Lags {
        fn from(old: Second) -> Self {
            Self { time_constants: vec![old.time_constant] }
        }
    }

    impl Document for Lags {
        const KIND: &'static str = "lag";
        const STEPS: &'static [Step] = &[step::<First, Second>, step::<Second, Self>];
    }

    fn why(document: Value) -> String {
        read::<Lags>(document).unwrap_err().to_string()
    }

    #[test]
    fn a_document_of_another_version_is_told_and_not_guessed() {
        assert_eq!(version_of::<Lags>(), 3);
        assert_eq!(
            why(json!({ "version": 4, "time_constants": [] })),
            "This lag is of version 4, and this program reads versions 1 to 3: open it with the program that wrote it, or a \
             newer one."
        );
        for strange in [json!(0), json!(-1), json!(1.5), json!("2"), json!(null), json!(1e300)] {
            assert!(why(json!({ "version": strange, "minutes": 1.0 })).contains("of version"), "{strange}");
        }
        // A form of one version under the number of another.
        assert!(why(json!({ "version": 2, "minutes": 1.0 })).contains("minutes"));
        assert!(why(json!({ "time_constants": [60.0] })).contains("time_constants"));
        for not_one in [json!([]), json!(3), json!("lag"), json!(null)] {
            assert!(read::<Lags>(not_one).is_err());
        }
    }

    #[test]
    fn a_text_is_read_as_its_document_is_and_says_where_it_is_wrong() {
        for strange in [json!(0), json!(4), json!(null), json!("3")] {
            let document = json!({ "version": strange, "minutes": 1.0 });
            assert_eq!(read_text::<Lags>(&document.to_string()).unwrap_err().to_string(), why(document));
        }
        let of_plant = |text: &str| read_text::<crate::simulation::Scenario>(text).unwrap_err().to_string();
        assert!(
            of_plant("{\n \"duration\": \"long\"}").contains("line 2"),
            "{}",
            of_plant("{\n \"duration\": \"long\"}")
        );
        assert!(of_plant("{\"version\": 2}").starts_with("This scenario is of version 2"));
        let trial = |text: &str| read_text::<crate::simulation::Trial>(text).unwrap_err().to_string();
        assert!(trial("{}").contains("does not say of which version"), "{}", trial("{}"));
        assert!(trial("{").contains("EOF"), "{}", trial("{"));
    }

    #[test]
    fn kinds_have_names_of_their_own() {
        let kinds = all_kinds();
        let names: std::collections::BTreeSet<&str> = kinds.iter().map(|(name, _)| *name).collect();
        assert_eq!(names.len(), kinds.len());
        assert!(names.contains("plant") && names.contains("model"));
    }

    proptest! {
        #[test]
        fn every_version_comes_up_to_the_same(minutes in -1e6..1e6f64) {
            let time = 60.0 * minutes;
            let wanted = Lags { time_constants: vec![time] };
            for old in [
                json!({ "minutes": minutes }),
                json!({ "version": 1, "minutes": minutes }),
                json!({ "version": 2, "time_constant": time }),
                json!({ "version": 3, "time_constants": [time] }),
            ] {
                prop_assert_eq!(&read::<Lags>(old.clone()).unwrap(), &wanted);
                prop_assert_eq!(&read_text::<Lags>(&old.to_string()).unwrap(), &wanted);
                let stored: Stored<Lags> = serde_json::from_value(old).unwrap();
                let written = serde_json::to_value(Written(&stored.0)).unwrap();
                prop_assert_eq!(&written["version"], &json!(3));
                prop_assert_eq!(&read::<Lags>(written).unwrap(), &wanted);
            }
        }
    }
}
