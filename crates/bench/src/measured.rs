//! What was measured of one way.

pub(super) struct Measured {
    pub(super) rate: f64,
    pub(super) server_micros: f64,
    pub(super) client_micros: f64,
}

pub(super) fn print(name: &str, measured: &Measured) {
    println!(
        "{name:<8} {:>10.0} {:>14.1} {:>14.1}",
        measured.rate, measured.server_micros, measured.client_micros
    );
}
