//! One subcommand per file.

pub mod admin;
pub mod backtest;
pub mod collect;
pub mod demo;
pub mod deploy;
pub mod errors;
pub mod find;
pub mod group;
pub mod grouping;
pub mod handling;
pub mod login;
pub mod logs;
pub mod markers;
pub mod occurrence;
pub mod occurrences;
pub mod parts;
mod repository;
pub mod send;
pub mod sending;
pub mod serve;
pub mod services;
pub mod show;
mod stack;
pub mod trace;
pub mod traffic;
pub mod uses;
pub mod why;
