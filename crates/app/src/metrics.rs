//! What a session is doing, as OpenMetrics for a collector: text over HTTP, read-only.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread;

use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::{Registry, Unit};
use tiny_http::{Header, Method, Request, Response, Server};

use crate::failure::Failure;
use crate::status::{DOING, Status};

/// Where the figures are.
const PATH: &str = "/metrics";
/// What the answer is, by the OpenMetrics standard, version 1.0.
const CONTENT: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

type Labels = Vec<(&'static str, String)>;
type Value = Gauge<f64, std::sync::atomic::AtomicU64>;

/// Reads an address to listen on: a port alone is one of this machine only.
pub(crate) fn parse_listen(text: &str) -> Result<SocketAddr, String> {
    let port = text.strip_prefix(':').unwrap_or(text).parse::<u16>();
    match (port, text.parse::<SocketAddr>()) {
        (Ok(port), _) => Ok(SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), port)),
        (_, Ok(address)) => Ok(address),
        _ => Err(format!(
            "\"{text}\" is not an address to listen on: write a port, such as 9400, for this machine only, or an address \
             with a port, such as 192.168.0.5:9400"
        )),
    }
}

/// What is told at present.
#[derive(Debug, Clone, Default)]
pub(crate) struct Page(Arc<Mutex<Option<Status>>>);

impl Page {
    /// Tells this from now on.
    pub(crate) fn show(&self, status: Status) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some(status);
    }

    /// Tells it to whoever asks at an address, as long as the process lives; the address it came to.
    ///
    /// # Errors
    /// Nobody can listen there.
    pub(crate) fn listen(&self, address: SocketAddr) -> Result<SocketAddr, Failure> {
        let cannot = |cause: &dyn std::fmt::Display| {
            Failure::failed(format!(
                "--listen {address}: {cause}. Name another address or port, or omit --listen"
            ))
        };
        let server = Server::http(address).map_err(|cause| cannot(&cause))?;
        let bound = server.server_addr().to_ip().unwrap_or(address);
        let page = self.clone();
        thread::Builder::new()
            .name("metrics".into())
            .spawn(move || {
                for request in server.incoming_requests() {
                    page.answer(request);
                }
            })
            .map_err(|cause| cannot(&cause))?;
        Ok(bound)
    }

    fn answer(&self, request: Request) {
        let text = |status: u16, text: &str| Response::from_string(text).with_status_code(status);
        let header = |name: &str, value: &str| Header::from_bytes(name, value).ok();
        let response = match (request.method(), request.url()) {
            (Method::Get, PATH) => {
                let status = self.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
                match exposition(status.as_ref()) {
                    Ok(figures) => header("Content-Type", CONTENT)
                        .into_iter()
                        .fold(text(200, &figures), Response::with_header),
                    Err(_) => text(500, "The figures cannot be written.\n"),
                }
            }
            (Method::Get, _) => text(404, "There is only /metrics here.\n"),
            _ => header("Allow", "GET")
                .into_iter()
                .fold(text(405, "This is read-only: GET /metrics.\n"), Response::with_header),
        };
        // Who went away does not read the answer.
        let _ = request.respond(response);
    }
}

/// A status as OpenMetrics text; without one there are no figures.
fn exposition(status: Option<&Status>) -> Result<String, std::fmt::Error> {
    let mut registry = Registry::with_prefix("yard_step");
    // Some parsers do not take an answer without any.
    let version = Info::new(vec![("version", env!("CARGO_PKG_VERSION"))]);
    registry.register("build", "The program", version);
    if let Some(status) = status {
        register(&mut registry, status);
    }
    let mut text = String::new();
    encode(&mut text, &registry)?;
    Ok(text)
}

fn register(registry: &mut Registry, status: &Status) {
    let card: Labels = vec![("card", status.card.clone()), ("unit", status.unit.clone())];
    let gauge = |labels: Labels, value: f64| {
        let family = Family::<Labels, Value>::default();
        family.get_or_create(&labels).set(value);
        family
    };
    let with_unit = [
        ("core_clock", "Core clock", "hertz", status.core_clock_mhz.map(|mhz| mhz * 1e6)),
        ("board_power", "Board power", "watts", status.board_power_w),
        ("core_temperature", "Core temperature", "celsius", status.core_temperature_c),
        ("hot_spot_temperature", "Hot spot temperature", "celsius", status.hot_spot_c),
        ("fan_speed", "Fan speed, 1 is full", "ratio", status.fan_percent.map(|p| p / 100.0)),
        ("run", "How long the run has lasted", "seconds", status.seconds),
        ("run_planned", "How long the run is to last", "seconds", status.planned_seconds),
    ];
    for (name, help, unit, value) in with_unit {
        if let Some(value) = value {
            let unit = Unit::Other(unit.into());
            registry.register_with_unit(name, help, unit, gauge(card.clone(), value));
        }
    }
    let plain = [
        ("frames_per_second", "Frames per second", status.frames_per_second),
        ("score", "Score of the run, in the units of its load", status.score),
        (
            "wrong_frames",
            "Frames of the run with wrong pixels",
            status.wrong_frames.map(|wrong| wrong as f64),
        ),
        ("alarms", "User alarms going off", Some(status.alarms.len() as f64)),
    ];
    for (name, help, value) in plain {
        if let Some(value) = value {
            registry.register(name, help, gauge(card.clone(), value));
        }
    }
    let doing = Family::<Labels, Value>::default();
    for state in DOING {
        let labels = card.iter().cloned().chain([("doing", state.to_owned())]).collect();
        doing.get_or_create(&labels).set(f64::from(u8::from(status.doing == state)));
    }
    registry.register("doing", "What the session is doing: 1 of one of these", doing);
    let run = card
        .into_iter()
        .chain([
            ("climb", status.climb.to_string()),
            ("trial", status.trial.map_or(String::new(), |trial| trial.to_string())),
            ("load", status.load.clone().unwrap_or_default()),
            ("settings", status.settings.clone().unwrap_or_default()),
            ("last_verdict", status.verdict.clone().unwrap_or_default()),
        ])
        .collect::<Labels>();
    registry.register("session", "The card, and what runs on it", Info::new(run));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tui::fixtures::snapshot;
    use openmetrics_parser::openmetrics::parse_openmetrics;
    use rstest::rstest;
    use std::io::{Read, Write};
    use std::net::TcpStream;

    #[rstest]
    #[case("9400", Ok("127.0.0.1:9400"))]
    #[case(":9400", Ok("127.0.0.1:9400"))]
    #[case("192.168.0.5:9400", Ok("192.168.0.5:9400"))]
    #[case("[::1]:9400", Ok("[::1]:9400"))]
    #[case("99999", Err("\"99999\" is not an address to listen on"))]
    #[case("everywhere", Err("\"everywhere\" is not an address to listen on"))]
    fn a_port_alone_is_of_this_machine_only(#[case] text: &str, #[case] read: Result<&str, &str>) {
        match (parse_listen(text), read) {
            (Ok(address), Ok(expected)) => assert_eq!(address.to_string(), expected),
            (Err(error), Err(told)) => assert!(error.starts_with(told), "{error}"),
            other => panic!("{other:?}"),
        }
    }

    /// What a server answers to one request.
    fn asked(address: SocketAddr, request: &str) -> String {
        let mut stream = TcpStream::connect(address).unwrap();
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer
    }

    fn get(path: &str) -> String {
        format!("GET {path} HTTP/1.1\r\nHost: here\r\nConnection: close\r\n\r\n")
    }

    fn shown() -> (SocketAddr, Status) {
        let page = Page::default();
        let mut status = Status::of_snapshot(&snapshot());
        status.settings = Some("core \"+30\"\nMHz".into());
        page.show(status.clone());
        (page.listen(SocketAddr::from(([127, 0, 0, 1], 0))).unwrap(), status)
    }

    #[test]
    fn figures_are_open_metrics_that_a_parser_reads() {
        let (address, status) = shown();
        let answer = asked(address, &get("/metrics"));
        let (head, body) = answer.split_once("\r\n\r\n").unwrap();
        assert!(head.starts_with("HTTP/1.1 200"), "{head}");
        assert!(head.contains(CONTENT), "{head}");
        let exposition = parse_openmetrics(body).unwrap();
        let families = exposition.families;
        for name in ["yard_step_core_clock_hertz", "yard_step_board_power_watts", "yard_step_doing"]
        {
            assert!(families.contains_key(name), "{name}: {body}");
        }
        let clock = format!("{}", status.core_clock_mhz.unwrap() * 1e6);
        assert!(body.contains(&format!("}} {clock}")), "{clock}: {body}");
        assert!(body.ends_with("# EOF\n"), "{body}");
    }

    #[test]
    fn before_the_first_status_only_the_program_is_told() {
        let text = exposition(None).unwrap();
        let families = parse_openmetrics(&text).unwrap().families;
        assert_eq!(families.keys().collect::<Vec<_>>(), ["yard_step_build"]);
    }

    #[rstest]
    #[case::another_place(get("/"), "HTTP/1.1 404")]
    #[case::head("HEAD /metrics HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n".into(), "HTTP/1.1 405")]
    #[case::delete("DELETE /metrics HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n".into(), "HTTP/1.1 405")]
    #[case::post(
        "POST /metrics HTTP/1.1\r\nHost: h\r\nConnection: close\r\nContent-Length: 3\r\n\r\nb=1".into(),
        "HTTP/1.1 405"
    )]
    #[case::put(
        "PUT /metrics HTTP/1.1\r\nHost: h\r\nConnection: close\r\nContent-Length: 0\r\n\r\n".into(),
        "HTTP/1.1 405"
    )]
    #[case::options("OPTIONS * HTTP/1.1\r\nHost: h\r\nConnection: close\r\n\r\n".into(), "HTTP/1.1 405")]
    fn everything_but_asking_for_the_figures_is_refused(
        #[case] request: String,
        #[case] told: &str,
    ) {
        let (address, _) = shown();
        let answer = asked(address, &request);
        assert!(answer.starts_with(told), "{answer}");
        assert!(!told.contains("405") || answer.contains("Allow: GET"), "{answer}");
    }

    #[test]
    fn a_port_that_is_taken_is_told_with_the_way_out() {
        let (address, _) = shown();
        let error = Page::default().listen(address).unwrap_err();
        assert!(error.text().contains("Name another address or port"), "{}", error.text());
    }
}
