//! Stories through the real binary: PostgreSQL and the service on loopback, recorded payloads and a real SDK sending,
//! read back by command line and API.

#![expect(clippy::too_many_lines, reason = "a story is told in one go")]
#![expect(clippy::unwrap_used, reason = "helpers of tests fail loudly")]

mod announced;
mod backtests;
mod close_ups;
mod collect;
mod commands;
mod config;
mod connect;
mod console;
mod console_acting;
mod console_asking;
mod console_axe;
mod console_functions;
mod console_ground;
mod console_lists;
mod console_metrics;
mod console_now;
mod decide;
mod demo;
mod deploys;
mod editor;
mod endurance;
mod faults;
mod first_minute;
mod fuzzed;
mod guides;
mod helpers;
mod hostile;
mod installation;
mod logs;
mod notices;
mod one_page;
mod outage;
mod predicates;
mod printed;
mod protocols;
mod recorded;
mod regrouping;
mod running;
mod sampled;
mod sdk;
mod secrets;
mod senders;
mod shells;
mod standby;
mod support;
mod together;
mod traces;
mod understanding;
