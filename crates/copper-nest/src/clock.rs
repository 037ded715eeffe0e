//! The time, as records and the system's log write it.

use std::path::{Component, Path};

use jiff::tz::TimeZone;
use jiff::{Timestamp, ZonedDateTime};
use nest_core::value::Day;
use nest_core::windows::Moment;
use nest_host::zone::Zone;

use crate::failure::{Failure, REFUSED, Result};

/// This moment: of `SOURCE_DATE_EPOCH` where that is set, in UTC, so that an
/// image built twice is the same twice
/// (<https://reproducible-builds.org/specs/source-date-epoch/>).
pub struct Now {
    moment: ZonedDateTime,
}

impl Now {
    /// Looks at the clock.
    pub fn read() -> Result<Self> {
        let refuse = |message: String| Err(Failure::new(REFUSED, "clock", message));
        let (moment, source) = match std::env::var("SOURCE_DATE_EPOCH") {
            Ok(text) => {
                let moment =
                    text.parse().ok().and_then(|seconds| Timestamp::from_second(seconds).ok());
                let Some(moment) = moment else {
                    return refuse(format!(
                        "SOURCE_DATE_EPOCH is \"{text}\", which is no number of seconds"
                    ));
                };
                (moment.to_zoned_datetime(TimeZone::UTC), "SOURCE_DATE_EPOCH")
            }
            Err(_) => (Timestamp::now().to_zoned_datetime(zone_here()), "the clock"),
        };
        let now = Now { moment };
        if now.today() < Day::EARLIEST_TODAY {
            return refuse(format!(
                "{source} says {}, which can't be: dates in the account files would be wrong, \
                 and passwords seem to be expired. Set it right first",
                now.today()
            ));
        }
        Ok(now)
    }

    /// The day, in UTC, as the account files count it.
    pub fn today(&self) -> Day {
        Day::of_seconds(self.moment.timestamp().as_second())
    }

    /// The moment in the week, by a time zone; in UTC where there is none.
    pub fn in_week(&self, zone: Option<Zone>) -> Moment {
        let known = zone.and_then(|zone| {
            TimeZone::tzif(&zone.name, &zone.rules).ok().map(|tz| (tz, zone.name))
        });
        let (zone, name) = known.unwrap_or((TimeZone::UTC, "UTC".to_owned()));
        let here = self.moment.with_time_zone(zone);
        let day = here.weekday().to_monday_zero_offset().unsigned_abs();
        let minute =
            u16::from(here.hour().unsigned_abs()) * 60 + u16::from(here.minute().unsigned_abs());
        Moment { day, minute, zone: name }
    }

    /// The moment, wherever that is.
    pub fn timestamp(&self) -> Timestamp {
        self.moment.timestamp()
    }

    /// The moment with its zone: `2026-11-24T07:00:00+01:00`.
    pub fn zoned(&self) -> String {
        self.moment.strftime("%Y-%m-%dT%H:%M:%S%:z").to_string()
    }

    /// The moment as the system's log writes it: `Nov 24 07:00:00`.
    pub fn for_log(&self) -> String {
        self.moment.strftime("%b %e %H:%M:%S").to_string()
    }
}

/// The zone of this machine, or the one that `TZ` names; UTC where that is a file without
/// an end, a device say, as tzset(3) would take it too.
fn zone_here() -> TimeZone {
    const LONGEST: u64 = 1 << 20;
    let named = std::env::var("TZ").unwrap_or_default();
    let path = Path::new(named.trim_start_matches(':'));
    let climbs = path.components().any(|part| part == Component::ParentDir);
    let is_sound =
        |path: &Path| path.metadata().is_ok_and(|facts| facts.is_file() && facts.len() <= LONGEST);
    match climbs || path.is_absolute() && !is_sound(path) {
        true => TimeZone::UTC,
        false => TimeZone::system(),
    }
}

/// A moment for people, in the zone of this machine, or in UTC where `SOURCE_DATE_EPOCH` stands
/// for the clock: `2026-11-24 07:00`. Given in seconds since 1970.
pub fn moment_for_people(at: i64) -> String {
    let zone = match std::env::var_os("SOURCE_DATE_EPOCH") {
        Some(_) => TimeZone::UTC,
        None => zone_here(),
    };
    let moment = Timestamp::from_second(at).map(|moment| moment.to_zoned_datetime(zone));
    moment.map_or_else(|_| at.to_string(), |it| it.strftime("%Y-%m-%d %H:%M").to_string())
}

/// The same for machines, as RFC 3339 writes it, in UTC.
pub fn moment_for_machines(at: i64) -> Option<String> {
    Timestamp::from_second(at).ok().map(|moment| moment.to_string())
}

/// The time of a record for people: `2026-11-24 07:00`.
pub fn for_people(time: &str) -> String {
    time.get(..16).unwrap_or(time).replace('T', " ")
}
