//! The hours and the places of an account, where services keep to them.

use super::{Obstacle, Question, SignIn, gids_of};
use crate::context::PlanContext;
use crate::ssh::Rules;
use crate::table::Passwd;
use crate::windows::{Door, Half, Origins, ToldHalf, Who};
use crate::words::list;

/// The hours and the places of an account, and which services keep to them.
pub fn window_of<'a>(context: PlanContext<'a>, user: Passwd<'a>) -> [ToldHalf; 2] {
    let gids = || gids_of(context, &user, user.name);
    let groups = || gids().into_iter().map(|(_, name)| name.into()).collect();
    let who = Who { name: user.name, uid: user.uid(), groups: &groups };
    [Half::Hours, Half::Places].map(|half| context.world.windows().told(half, &who))
}

impl Question<'_, '_> {
    /// What the rules about hours and places come to.
    pub(super) fn judge_window(&self, rules: &Rules, answer: &mut SignIn) {
        let world = self.context.world;
        let windows = self.windows.unwrap_or_else(|| world.windows());
        if windows.is_empty() {
            return;
        }
        let groups = || (self.groups)().into_iter().map(|(_, name)| name.into()).collect();
        let who = Who { name: self.user.name, uid: self.user.uid(), groups: &groups };
        answer.now = world.moment();
        // Without those modules the SSH server knows of no such rules.
        let doors = if rules.pam { &[Door::Console, Door::Ssh][..] } else { &[Door::Console] };
        for door in doors {
            let passage = windows.passage(*door, &who);
            let mut against = Vec::new();
            match passage.hours {
                Some((week, lines)) if week.is_never() => {
                    let lines = lines.iter().map(ToString::to_string);
                    against.push(Obstacle::NeverOpen(list(lines).to_string()));
                }
                hours => answer.hours[*door as usize] = hours.map(|(week, _)| week),
            }
            let mut differ = passage.may_differ;
            match passage.origins {
                Origins::Anywhere => {}
                Origins::Nowhere(line) => against.push(Obstacle::NotHere(line)),
                Origins::Only(places, _) if *door == Door::Ssh => answer.only_from = Some(places),
                Origins::Only(_, line) => differ.push(line.to_string()),
                Origins::But(lines) => differ.extend(lines.iter().map(ToString::to_string)),
            }
            match door {
                Door::Console => answer.console.extend(against),
                Door::Ssh => {
                    answer.key.extend(against.iter().cloned());
                    answer.ssh_password.extend(against);
                }
            }
            differ.retain(|line| !answer.may_differ.contains(line));
            answer.may_differ.extend(differ);
        }
    }
}
