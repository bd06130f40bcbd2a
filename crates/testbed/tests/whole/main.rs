//! Everything that goes through the real thing: the service on loopback with its database, the stand-ins, the client,
//! the console in a browser. One program, so that the tests are spread over the processors as one list.

mod arrivals;
mod benches;
mod cards;
mod catalogue;
mod catalogue_console;
mod damage;
mod disk_full;
mod faults;
mod fuzz;
mod inside;
mod keeping;
mod lists;
mod loops;
mod network;
mod notices;
mod other_worker;
mod people;
mod promises;
mod refusals;
mod rounds;
mod running;
mod services;
mod settings;
mod settings_console;
mod standing;
mod staying;
mod story_cli;
mod story_console;
mod story_http;
mod team_console;
mod truth;
