//! How the values of settings are read and written.

use std::collections::BTreeMap;
use std::str::FromStr;

use toml::de::DeValue;

use super::{Accept, Avoid, Days, Freed, Permissions, SeverityChoice, SeverityChoices};
use crate::value::{Day, IdSpan, NameStyle};

/// How a value is read from TOML and written back to it.
pub(super) trait Setting: Sized {
    fn read(value: &DeValue<'_>) -> Result<Self, String>;
    fn write(&self) -> String;
}

impl Setting for bool {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        value.as_bool().ok_or_else(|| "this has to be true or false".into())
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
            .ok_or_else(|| "this has to be a whole number, 0 or more".into())
    }
    fn write(&self) -> String {
        self.to_string()
    }
}

impl Setting for String {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        value.as_str().map(str::to_owned).ok_or_else(|| "this has to be a text in quotes".into())
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
            .map_err(|_| "this has to be a number of days, or \"never\"".into())
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
        let wrong = "this has to be an octal mode in quotes, from \"0700\" to \"0777\"";
        let digits = value.as_str().filter(|text| text.bytes().all(|byte| byte.is_ascii_digit()));
        let mode = u32::from_str_radix(digits.ok_or(wrong)?, 8).map_err(|_| wrong)?;
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
        let wrong = || "this has to be a span in quotes, \"1000-59999\" say".to_owned();
        IdSpan::parse(value.as_str().ok_or_else(wrong)?)
    }
    fn write(&self) -> String {
        format!("\"{self}\"")
    }
}

/// Words of a fixed choice.
fn read_word<T: FromStr>(value: &DeValue<'_>, choice: &str) -> Result<T, String> {
    String::read(value)?.parse().map_err(|_| format!("this has to be one of {choice}"))
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
        let Some(table) = value.as_table() else {
            let shape =
                "this has to be \"RULE:SUBJECT  reason\", or { rule, subject, reason, by, until }";
            let text = String::read(value).map_err(|_| shape)?;
            let wrong = || format!("\"{text}\" is not written as \"RULE:SUBJECT  reason\"");
            let (what, reason) = text.split_once(char::is_whitespace).ok_or_else(wrong)?;
            let (rule, subject) = what.split_once(':').ok_or_else(wrong)?;
            let (rule, subject) = (rule.into(), subject.into());
            return Ok(Accept {
                rule,
                subject,
                reason: reason.trim().into(),
                by: None,
                until: None,
            });
        };
        let (mut texts, mut until) = (BTreeMap::new(), None);
        for (name, value) in table {
            match name.get_ref().as_ref() {
                name @ ("rule" | "subject" | "reason" | "by") => {
                    texts.insert(name.to_owned(), String::read(value.get_ref())?);
                }
                "until" => {
                    let date = match value.get_ref() {
                        DeValue::Datetime(date) => date.to_string(),
                        other => String::read(other).unwrap_or_default(),
                    };
                    // No day is told from today.
                    let day =
                        Day::parse(&date, Day(0)).ok().filter(|_| !date.starts_with(['t', '+']));
                    until = Some(day.ok_or("until is a day, such as 2027-06-30")?);
                }
                other => {
                    return Err(format!(
                        "there is no {other} here; there are rule, subject, reason, by and until"
                    ));
                }
            }
        }
        let mut take =
            |name: &str| texts.remove(name).ok_or_else(|| format!("an entry needs a {name}"));
        let (rule, subject, reason) = (take("rule")?, take("subject")?, take("reason")?);
        Ok(Accept { rule, subject, reason, by: texts.remove("by"), until })
    }
    fn write(&self) -> String {
        let Accept { rule, subject, reason, by, until } = self;
        if by.is_none() && until.is_none() && !subject.contains(char::is_whitespace) {
            return format!("{rule}:{subject}  {reason}").write();
        }
        let mut fields = vec![("rule", rule.write()), ("subject", subject.write())];
        fields.push(("reason", reason.write()));
        fields.extend(by.as_ref().map(|by| ("by", by.write())));
        fields.extend(until.map(|day| ("until", day.to_string())));
        let fields: Vec<String> =
            fields.into_iter().map(|(name, value)| format!("{name} = {value}")).collect();
        format!("{{ {} }}", fields.join(", "))
    }
}

impl Setting for SeverityChoices {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        let wrong = "this has to be a table of rules, as in { \"empty-group\" = \"off\" }";
        let table = value.as_table().ok_or(wrong)?;
        let entries = table.iter().map(|(rule, choice)| {
            let text = String::read(choice.get_ref())?;
            let choice = match text.as_str() {
                "off" => SeverityChoice::Off,
                _ => SeverityChoice::As(read_word(
                    choice.get_ref(),
                    "\"error\", \"warning\", \"note\", \"off\"",
                )?),
            };
            Ok((rule.get_ref().to_string(), choice))
        });
        entries.collect::<Result<_, String>>().map(SeverityChoices)
    }
    fn write(&self) -> String {
        let word = |choice: &SeverityChoice| match choice {
            SeverityChoice::Off => "off".to_owned(),
            SeverityChoice::As(severity) => severity.to_string(),
        };
        let entries: Vec<String> = self
            .0
            .iter()
            .map(|(rule, choice)| format!("\"{rule}\" = \"{}\"", word(choice)))
            .collect();
        match entries.is_empty() {
            true => "{}".to_owned(),
            false => format!("{{ {} }}", entries.join(", ")),
        }
    }
}

impl<T: Setting> Setting for Vec<T> {
    fn read(value: &DeValue<'_>) -> Result<Self, String> {
        let items = value.as_array().ok_or("this has to be a list in square brackets")?;
        items.iter().map(|item| T::read(item.get_ref())).collect()
    }
    fn write(&self) -> String {
        format!("[{}]", self.iter().map(T::write).collect::<Vec<_>>().join(", "))
    }
}
