//! What one part of a file comes to: the lines that rules have to look at, and the
//! names and numbers of all lines.

use wide::u8x16;

use super::lines::LAST_DAY;
use super::passwords::print;
use super::{MemberScan, Spans, is_last_part};
use crate::context::PlanContext;
use crate::table::{
    File, InOrderMatcher, Line, MatchedLines, NameHasher, NameKey, Passwd, Record, SplitLine,
    SubId, Sum, block, each_line, name_of,
};
use crate::value::{IdSet, IdSpan, PasswordField, Uid, read_plain_id};

/// What was found in one part.
#[derive(Default)]
pub(super) struct Chunk {
    /// Where the lines begin that may be wrong.
    pub odd: Vec<u32>,
    /// Whether there are NUL bytes.
    pub nul: bool,
    /// The names, of passwd.
    pub keys: Vec<NameKey>,
    /// What became of the names, of another file.
    pub matched: MatchedLines,
    /// The uids of users, or the gids of groups, but for odd lines.
    pub ids: IdSet,
    /// Whether two of them are the same.
    pub twice: bool,
    /// The gids of primary groups, but for odd lines.
    pub primary: IdSet,
    /// The gid of each name's primary group, of odd lines too; the largest id for none.
    pub gids: Vec<u32>,
    /// Which of these users are not plainly people, counted from 0.
    pub not_people: Vec<u32>,
    /// Whether somebody has a home that is not named after its user.
    pub other_home: bool,
    /// Groups that list somebody twice, or who has no account, or whose primary group it
    /// is; or that may.
    pub suspects: Vec<u32>,
    /// The lists of members, each with the name of its group.
    pub lists: Sum,
    /// Ranges of ids.
    pub spans: Spans,
    /// The ends of password hashes, by which those are found that are there twice.
    pub prints: Vec<u64>,
}

/// Goes through a piece of passwd.
pub(super) fn sweep_users(
    part: &mut Chunk,
    from: usize,
    text: &[u8],
    context: PlanContext<'_>,
    hasher: &NameHasher,
) {
    // About as many lines as there may be, so that nothing has to move.
    part.keys.reserve(text.len() / 40);
    part.gids.reserve(text.len() / 40);
    part.nul |= each_line(text, |row| {
        let start = from + row.start;
        let gid = user(part, text, row, context);
        let Some(name) = part.name(row, start, gid.is_some()) else { return };
        if gid.is_none() {
            part.not_people.push(part.keys.len() as u32);
        }
        part.keys.push(hasher.key(name, start));
        let odd = || Passwd::read(row.line.trim_ascii_start())?.gid().map(|id| id.0);
        part.gids.push(gid.or_else(odd).unwrap_or(u32::MAX));
    });
}

/// Goes through a piece of another file, and places its names.
pub(super) fn sweep(
    file: File,
    part: &mut Chunk,
    (matcher, scan): (&mut InOrderMatcher<'_>, &mut MemberScan<'_>),
    from: usize,
    text: &[u8],
    context: PlanContext<'_>,
) {
    part.nul |= match file {
        File::Shadow => {
            // What follows the password is the same on many lines.
            let mut usual: &[u8] = b"";
            each_line(text, |row| {
                let days = row.after(1);
                let fine = days == usual || has_sound_days(row, context.today.0);
                if fine {
                    usual = days;
                }
                part.prints.extend(row.field(1).and_then(print));
                let plain = fine && has_sound_password(row) && is_record(file, text, row);
                _ = part.place(matcher, from, row, plain);
            })
        }
        File::Group => each_line(text, |row| {
            let gid = group(part, text, row);
            part.place_group(matcher, from, row, gid.is_some());
            let (list, start) = (row.field(3), (from + row.start) as u32);
            if list != Some(b"") {
                match list.filter(|_| gid.is_some()) {
                    Some(list) => scan.add_list(&mut part.suspects, list, gid, start),
                    None => scan.add_line(&mut part.suspects, row, start),
                }
            }
        }),
        File::Gshadow => each_line(text, |row| {
            let password = matches!(row.field(1), Some(b"!" | b"*"));
            let plain = password && row.field(2) == Some(b"") && is_record(file, text, row);
            part.place_group(matcher, from, row, plain);
        }),
        _ => {
            // The counts are the same on many lines.
            let mut usual = (&b""[..], 0);
            each_line(text, |row| {
                let count = row.field(2).unwrap_or_default();
                if count != usual.0 {
                    usual = (count, read_plain_id(count).unwrap_or(0));
                }
                let plain = range(part, text, row, usual.1);
                _ = part.place(matcher, from, row, plain);
            })
        }
    };
}

impl Chunk {
    /// The part when all of it was gone through.
    pub fn finish(mut self, matcher: InOrderMatcher<'_>, scan: MemberScan<'_>) -> Self {
        scan.finish(&mut self.suspects);
        self.matched = matcher.finish();
        self
    }

    /// Places the name of a line, in a piece that begins at `from`.
    #[inline(always)]
    fn place<'t>(
        &mut self,
        matcher: &mut InOrderMatcher<'_>,
        from: usize,
        row: &SplitLine<'t>,
        plain: bool,
    ) -> Option<&'t [u8]> {
        let start = from + row.start;
        let name = self.name(row, start, plain)?;
        matcher.line(name, start);
        Some(name)
    }

    /// The same for a line of group or gshadow, which may list members.
    #[inline(always)]
    fn place_group(
        &mut self,
        matcher: &mut InOrderMatcher<'_>,
        from: usize,
        row: &SplitLine<'_>,
        plain: bool,
    ) {
        // As much as there is after the third colon.
        let name = self.place(matcher, from, row, plain);
        if let (Some(name), [b':', list @ ..]) = (name, row.after(2))
            && !list.is_empty()
        {
            self.lists.add(matcher.hasher().hash_all([name, list]));
        }
    }

    /// The name that a line is about, if any. Keeps the line if it is not plain.
    #[inline(always)]
    fn name<'t>(&mut self, row: &SplitLine<'t>, start: usize, plain: bool) -> Option<&'t [u8]> {
        if plain {
            return row.field(0);
        }
        if !matches!(row.line.first(), None | Some(b'#')) {
            self.odd.push(start as u32);
        }
        name_of(row.line)
    }
}

/// Whether a line has as many fields as it is to have, the first one a plain name, and
/// no white space at its end. That it says no is no finding yet.
#[inline(always)]
fn is_record(file: File, text: &[u8], row: &SplitLine<'_>) -> bool {
    row.count() == file.fields()
        && !matches!(row.line.last(), Some(b' ' | b'\t' | b'\r'))
        && has_plain_name(text, row)
}

/// Whether a line's name is one that every style allows.
#[inline(always)]
fn has_plain_name(text: &[u8], row: &SplitLine<'_>) -> bool {
    let name = row.field(0).unwrap_or_default();
    if !matches!(name.first(), Some(b'a'..=b'z' | b'_')) {
        return false;
    }
    // Nearly all names are short, and nearly all lines longer than that.
    if let Some(block) = block(text, row.start).filter(|_| name.len() <= 16) {
        let splat = u8x16::splat;
        let within = |first: u8, count: u8| {
            let above = block - splat(first);
            above.min(splat(count)).simd_eq(above)
        };
        let fits = within(b'a', 25)
            | within(b'0', 9)
            | block.simd_eq(splat(b'_'))
            | block.simd_eq(splat(b'-'));
        return fits.to_bitmask().trailing_ones() as usize >= name.len();
    }
    let fits = |byte: &u8| matches!(byte, b'a'..=b'z' | b'0'..=b'9' | b'_' | b'-');
    name.len() <= 32 && name.iter().all(fits)
}

/// An id that is plainly written, not that of root, and far from the largest.
#[inline(always)]
fn number(text: Option<&[u8]>) -> Option<u32> {
    text.filter(|text| text.len() < 10).and_then(read_plain_id).filter(|id| *id != 0)
}

/// Takes in a plain user; returns the gid.
#[inline(always)]
fn user(
    part: &mut Chunk,
    text: &[u8],
    row: &SplitLine<'_>,
    context: PlanContext<'_>,
) -> Option<u32> {
    if !is_record(File::Passwd, text, row) || row.field(1) != Some(b"x") {
        return None;
    }
    let uid = number(row.field(2)).filter(|uid| context.policy.is_person(Uid(*uid)))?;
    let (gid, home) = (number(row.field(3))?, row.field(5)?);
    if !matches!(home.first(), Some(b'/')) {
        return None;
    }
    part.twice |= !part.ids.insert(uid);
    part.primary.insert(gid);
    part.other_home |= !is_last_part(home, row.field(0)?);
    Some(gid)
}

/// Takes in a plain group; returns the gid.
#[inline(always)]
fn group(part: &mut Chunk, text: &[u8], row: &SplitLine<'_>) -> Option<u32> {
    if !is_record(File::Group, text, row) || row.field(1) != Some(b"x") {
        return None;
    }
    let gid = number(row.field(2))?;
    part.twice |= !part.ids.insert(gid);
    Some(gid)
}

/// Takes in a range of so many ids; returns whether it is plain. None are no range.
#[inline(always)]
fn range(part: &mut Chunk, text: &[u8], row: &SplitLine<'_>, count: u32) -> bool {
    let first = row.field(1).and_then(read_plain_id);
    if is_record(File::Subuid, text, row)
        && let Some(span) = first.and_then(|first| IdSpan::counted(first, u64::from(count)))
    {
        part.spans.add(span);
        return true;
    }
    let line = Line { bytes: row.line, start: 0 };
    if line.is_record() {
        let span = SubId::read(line.record()).and_then(|range| range.span());
        span.into_iter().for_each(|span| part.spans.add(span));
    }
    false
}

/// Whether a password field of shadow is a strong hash, or lets nobody in.
#[inline(always)]
fn has_sound_password(row: &SplitLine<'_>) -> bool {
    let password = row.field(1).unwrap_or_default();
    // As long as they have to be, see `PasswordField::fault`.
    let strong =
        [(&b"$y$"[..], 49), (b"$6$", 91), (b"$5$", 48), (b"$7$", 58), (b"$2", 60), (b"$gy$", 50)];
    let is_long = |shortest: usize| password.len() >= shortest;
    let is_strong = || {
        strong.iter().any(|(scheme, shortest)| password.starts_with(scheme) && is_long(*shortest))
    };
    !password.is_empty() && (is_strong() || PasswordField::is_harmless(password))
}

/// Whether the fields after the password are as they are to be.
fn has_sound_days(row: &SplitLine<'_>, today: i64) -> bool {
    let field = |at| row.field(at).unwrap_or_default();
    let days = |at| match field(at) {
        b"" => Some(None),
        text if text.len() < 10 => read_plain_id(text).map(|days| Some(i64::from(days))),
        _ => None,
    };
    let (Some(changed), Some(hold), Some(renew)) = (days(2), days(3), days(4)) else {
        return false;
    };
    // Of a line with too many fields the last one holds the rest.
    row.count() == File::Shadow.fields()
        && field(8).is_empty()
        && (5..7).all(|at| days(at).is_some())
        && days(7).is_some_and(|expires| expires.is_none_or(|day| day <= LAST_DAY))
        && changed.is_none_or(|changed| changed <= today)
        && hold.zip(renew).is_none_or(|(hold, renew)| hold <= renew)
}
