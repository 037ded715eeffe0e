//! How long an account lasts, and how its password ages.

use bstr::BStr;

use crate::plan::users::change_user::{AgingRequest, UserChange};
use crate::plan::users::suspend::is_out;
use crate::policy::Days;
use crate::refusal::{Reason, Result};
use crate::table::{File, ShadowField};
use crate::value::Expiry;
use crate::words::counted;

impl UserChange<'_, '_> {
    pub(crate) fn shadow(&mut self) -> Result<()> {
        let AgingRequest { renew, hold, remind, late, must_change } = self.request.aging;
        if self.request.expires.is_none() && !self.request.aging.asks() && !must_change {
            return Ok(());
        }
        let Some((line, shadow)) = self.found.shadow else {
            return Err(self.refuse(match self.context.book.shadow {
                None => Reason::NoShadowForExpiry,
                Some(_) => Reason::NoShadowLine { name: self.name().into() },
            }));
        };
        if self.request.expires.is_some() && is_out(&shadow) {
            let resume = format!("resume user {}", self.name());
            return Err(self.refuse(Reason::IsSuspended).or("resume it first", resume));
        }
        let aging = shadow.aging();
        let days = |days: Days| match days {
            Days::After(days) => Some(i64::from(days)),
            Days::Never => None,
        };
        let will_renew = renew.map_or(aging.renew, days);
        let will_hold = hold.map_or(aging.hold, |hold| Some(i64::from(hold)));
        if let (Some(renew), Some(hold)) = (will_renew, will_hold)
            && hold > renew
        {
            return Err(self.refuse(Reason::HoldAboveRenew { hold, renew }));
        }
        let mut fields: Vec<(ShadowField, String)> = Vec::new();
        let written = |days: Days| match days {
            Days::After(days) => days.to_string(),
            Days::Never => String::new(),
        };
        let named = |days: &str, none: &str| match days.parse::<u64>() {
            _ if days.is_empty() => none.to_owned(),
            Ok(days) => counted(days, "day", "days"),
            Err(_) => format!("{days} days"),
        };
        let old = |field: &[u8]| format!("was {}", named(&BStr::new(field).to_string(), "not set"));
        if must_change {
            fields.push((ShadowField::Changed, "0".into()));
            self.subject.decide("password", "must be changed", "at the next sign-in");
        }
        if let Some(hold) = hold {
            fields.push((ShadowField::Hold, hold.to_string()));
            self.subject.decide("hold", counted(hold, "day", "days"), old(shadow.hold));
        }
        if let Some(renew) = renew {
            let text = written(renew);
            self.subject.decide("renew", named(&text, "never"), old(shadow.renew));
            fields.push((ShadowField::Renew, text));
        }
        if let Some(remind) = remind {
            fields.push((ShadowField::Remind, remind.to_string()));
            self.subject.decide("remind", counted(remind, "day", "days"), old(shadow.remind));
        }
        if let Some(late) = late {
            let text = written(late);
            self.subject.decide("late", named(&text, "grace without end"), old(shadow.late));
            fields.push((ShadowField::Late, text));
        }
        if let Some(expires) = &self.request.expires {
            fields.push((ShadowField::Expires, self.expiry(expires)?));
        }
        let fields: Vec<(ShadowField, &[u8])> =
            fields.iter().map(|(at, text)| (*at, text.as_bytes())).collect();
        self.builder.set_fields(File::Shadow, line, &fields);
        Ok(())
    }

    fn expiry(&mut self, text: &str) -> Result<String> {
        let today = self.context.today;
        let expiry = Expiry::parse(text, today).map_err(|fault| self.refuse(fault.into()))?;
        let Expiry::On(day) = expiry else {
            self.subject.decide("expires", "never", "");
            return Ok(String::new());
        };
        if day <= today {
            return Err(self
                .refuse(Reason::ExpiryPast(day))
                .or("to keep somebody out now", format!("suspend user {}", self.name())));
        }
        self.subject.decide(
            "expires",
            day.to_string(),
            "the first day on which it no longer works",
        );
        Ok(day.0.to_string())
    }
}
