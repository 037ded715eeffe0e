//! How the values of settings are read and written.

use std::str::FromStr;

use toml::de::DeValue;

use super::{Accept, Avoid, Days, Freed, Permissions};
use crate::value::{IdSpan, NameStyle};

/// How a value is read from TOML and written back to it.
pub(super) trait Setting: Sized {
    fn read(value: &DeValue<'_>) -> Result<Self, String>;
    fn write(&self) -> String;
}

impl Setting for bool {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        value.as_bool().ok_or_else(|| "this is true or false".into())
    }
    fn write(&self) -> String {
        self.to_string()
    }
}

impl Setting for u32 {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        value
            .as_integer()
            .and_then(|number| u32::from_str_radix(number.as_str(), number.radix()).ok())
            .ok_or_else(|| "this is a whole number, 0 or more".into())
    }
    fn write(&self) -> String {
        self.to_string()
    }
}

impl Setting for String {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        value.as_str().map(str::to_owned).ok_or_else(|| "this is a text in quotes".into())
    }
    fn write(&self) -> String {
        toml::Value::from(self.as_str()).to_string()
    }
}

impl Setting for Days {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        if value.as_str() == Some("never") {
            return Ok(Days::Never);
        }
        u32::read(value)
            .map(Days::After)
            .map_err(|_| "this is a number of days, or \"never\"".into())
    }
    fn write(&self) -> String {
        match self {
            Days::After(days) => days.to_string(),
            Days::Never => "\"never\"".into(),
        }
    }
}

impl Setting for Permissions {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        let wrong = "this is an octal mode in quotes, from \"0700\" to \"0777\"";
        let mode = u32::from_str_radix(value.as_str().ok_or(wrong)?, 8).map_err(|_| wrong)?;
        // The owner must be able to use it, and set-id bits have no place here.
        if mode & 0o700 == 0o700 && mode <= 0o777 {
            Ok(Permissions(mode))
        } else {
            Err(wrong.into())
        }
    }
    fn write(&self) -> String {
        format!("\"{:04o}\"", self.0)
    }
}

impl Setting for IdSpan {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        IdSpan::parse(&String::read(value)?)
    }
    fn write(&self) -> String {
        format!("\"{self}\"")
    }
}

/// Words of a fixed choice.
fn read_word<T: FromStr>(value: &DeValue<'_>, choice: &str) -> Result<T, String> {
    String::read(value)?.parse().map_err(|_| format!("this is one of {choice}"))
}

impl Setting for NameStyle {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        read_word(value, "\"strict\", \"dotted\", \"loose\"")
    }
    fn write(&self) -> String {
        format!("\"{self}\"")
    }
}

impl Setting for Freed {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        read_word(value, "\"never\", \"after-retention\"")
    }
    fn write(&self) -> String {
        format!("\"{self}\"")
    }
}

impl Setting for Avoid {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        let text = String::read(value)?;
        let (span, why) = text.split_once(' ').unwrap_or((&text, ""));
        Ok(Avoid { span: IdSpan::parse(span)?, why: why.trim().to_owned() })
    }
    fn write(&self) -> String {
        format!("{} {}", self.span, self.why).trim_end().to_owned().write()
    }
}

impl Setting for Accept {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        let text = String::read(value)?;
        let wrong = || format!("\"{text}\" is not written as \"RULE:SUBJECT  reason\"");
        let (what, why) = text.split_once(char::is_whitespace).ok_or_else(wrong)?;
        let (rule, subject) = what.split_once(':').ok_or_else(wrong)?;
        Ok(Accept { rule: rule.into(), subject: subject.into(), why: why.trim().into() })
    }
    fn write(&self) -> String {
        format!("{}:{}  {}", self.rule, self.subject, self.why).write()
    }
}

impl<T: Setting> Setting for Vec<T> {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        let items = value.as_array().ok_or("this is a list in square brackets")?;
        items.iter().map(|item| T::read(item.get_ref())).collect()
    }
    fn write(&self) -> String {
        format!("[{}]", self.iter().map(T::write).collect::<Vec<_>>().join(", "))
    }
}
