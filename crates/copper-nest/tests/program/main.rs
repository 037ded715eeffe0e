//! The built program, run on trees in temporary folders.

mod bad_input;
mod changes;
mod check;
mod commit;
mod complete;
mod create_user;
mod damage;
mod demo;
mod docs;
mod groups;
mod harness;
mod ids;
mod intake;
mod killed;
mod leaving;
mod list_users;
mod live;
mod pam;
mod people;
mod policy;
mod readers;
mod repair;
mod show_user;
mod system;
mod trace;
mod watch;
