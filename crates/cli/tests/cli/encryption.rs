//! TLS for real: certificates made here, good ones and bad ones, and those that servers ask for.

use std::sync::Arc;

use chestnut_standin::{Server, Site, Tls, serve_tls_on_thread};
use chestnut_testkit::standin_now;
use rcgen::{
    BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair, KeyUsagePurpose, date_time_ymd,
};

use crate::desk::Desk;

/// A certificate authority of one's own.
struct Authority {
    pem: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    fn new(name: &str) -> Self {
        let mut params = CertificateParams::new(Vec::new()).expect("parameters");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign];
        params.distinguished_name.push(DnType::CommonName, name);
        let key = KeyPair::generate().expect("a key");
        let pem = params.self_signed(&key).expect("a certificate").pem();
        Self { pem, issuer: Issuer::new(params, key) }
    }

    /// Signs a certificate for a name; `years` from and until.
    fn sign(&self, name: &str, years: (i32, i32)) -> (String, String) {
        let mut params = CertificateParams::new(vec![name.to_owned()]).expect("parameters");
        params.not_before = date_time_ymd(years.0, 1, 1);
        params.not_after = date_time_ymd(years.1, 1, 1);
        let key = KeyPair::generate().expect("a key");
        let certificate = params.signed_by(&key, &self.issuer).expect("a certificate");
        (certificate.pem(), key.serialize_pem())
    }

    fn serve(&self, name: &str, years: (i32, i32), client_ca: Option<String>) -> Site {
        let (certificate, key) = self.sign(name, years);
        let mut server = Server::new(&["office"], standin_now() - 86_400_000);
        server.add_calendar("office", "presses", "Press hall", "#b5651d");
        serve_tls_on_thread(server, Arc::new(standin_now), &Tls { certificate, key, client_ca })
            .expect("a server")
    }
}

const NOW: (i32, i32) = (2020, 2090);

#[test]
fn certificates_are_trusted_or_explained() {
    let (authority, stranger) = (Authority::new("Orchard authority"), Authority::new("Cider authority"));
    let table = [
        ("good", authority.serve("localhost", NOW, None), "", ""),
        (
            "expired",
            authority.serve("localhost", (2020, 2021), None),
            "has expired",
            "It expired on 1 Jan 2021",
        ),
        (
            "not yet",
            authority.serve("localhost", (2080, 2090), None),
            "is not valid yet",
            "It is valid from 1 Jan 2080",
        ),
        (
            "wrong name",
            authority.serve("dav.packhouse.example", NOW, None),
            "is for another name",
            "It is for dav.packhouse.example",
        ),
        (
            "unknown authority",
            stranger.serve("localhost", NOW, None),
            "is not signed by an authority that this machine trusts",
            "It is signed by Cider authority. If that is your own certificate authority, name its file: ca",
        ),
    ];
    for (what, site, message, hint) in table {
        let desk = Desk::new();
        desk.write("ca.pem", &authority.pem);
        desk.account(&site.url, "ca = \"ca.pem\"");
        let told = desk.run(&["account", "test", "--json"]);
        let account = &told.json()["accounts"][0];
        if message.is_empty() {
            assert_eq!(told.code, 0, "{what}: {told:?}");
            let seen = account["steps"][2]["seen"].as_str().unwrap_or_default();
            assert_eq!(
                seen,
                "TLS 1.3, certificate for localhost, signed by Orchard authority, valid until 1 Jan 2090"
            );
            desk.ok(&["calendar", "list"]);
            continue;
        }
        assert_eq!((told.code, account["steps"][2]["ok"].as_bool()), (1, Some(false)), "{what}: {told:?}");
        let said = |key: &str| account[key].as_str().unwrap_or_default().to_owned();
        assert!(said("error").contains(message) && said("hint").contains(hint), "{what}: {account:#}");
        // The password was never sent.
        site.with(|server| assert!(server.log.is_empty(), "{what}"));
        let told = desk.run(&["calendar", "list"]);
        assert!(told.code == 1 && told.said().contains(message), "{what}: {told:?}");
    }
    // Without `ca` nobody knows the authority; with a file that is no certificate nothing goes.
    let desk = Desk::new();
    let site = authority.serve("localhost", NOW, None);
    desk.account(&site.url, "");
    assert!(desk.run(&["account", "test"]).said().contains("not signed by an authority"));
    desk.write("ca.pem", "no certificate");
    desk.account(&site.url, "ca = \"ca.pem\"");
    let told = desk.run(&["account", "test"]);
    assert!(told.said().contains("the `ca` file holds no certificate"), "{}", told.err);
}

#[test]
fn a_server_that_asks_for_a_certificate_gets_one() {
    let authority = Authority::new("Orchard authority");
    let site = authority.serve("localhost", NOW, Some(authority.pem.clone()));
    let desk = Desk::new();
    desk.write("ca.pem", &authority.pem);
    desk.account(&site.url, "ca = \"ca.pem\"");
    let told = desk.run(&["account", "test"]);
    assert_eq!(told.code, 1, "{told:?}");
    assert!(told.said().contains("requires a certificate from you"), "{}", told.err);
    let (certificate, key) = authority.sign("office", NOW);
    desk.write("office.pem", &certificate);
    desk.private("office.key", &key);
    let both = "ca = \"ca.pem\"\ncertificate = \"office.pem\"\ncertificate-key = \"office.key\"";
    desk.account(&site.url, both);
    desk.ok(&["account", "test"]);
    desk.rights("office.key", 0o644);
    let told = desk.run(&["account", "test"]);
    assert!(told.said().contains("others may read the key in"), "{}", told.err);
}

/// A certificate that ends soon is told of long before it does, also by a timer's `sync`.
#[test]
fn a_certificate_that_ends_is_a_trouble_before_it_ends() {
    let authority = Authority::new("Orchard authority");
    let site = authority.serve("localhost", (2020, 2027), None);
    let desk = Desk::new();
    desk.write("ca.pem", &authority.pem);
    desk.private("password", "office-pw\n");
    let configure = |warn: &str| {
        desk.write(
            "chestnut.toml",
            format!(
                "[account.a]\nurl = \"{}\"\nuser = \"office\"\npassword = {{ file = \"password\" }}\nca = \"ca.pem\"\n\
                 {warn}\n[calendar.presses]\naccount = \"a\"\npath = \"/office/calendars/presses/\"\n\
                 [calendar.kiosk]\nfile = \"kiosk.ics\"\n[route.r]\nfrom = \"presses\"\nto = \"kiosk\"\n",
                site.url.replace("127.0.0.1", "localhost")
            ),
        );
    };
    configure("");
    desk.ok(&["sync"]);
    assert_eq!(desk.run(&["status", "--json"]).json()["troubles"], serde_json::json!([]));
    // What is looked at once a day was not looked at by another state.
    configure("warn-before = \"100 days\"");
    desk.ok(&["sync"]);
    assert_eq!(desk.run(&["status", "--json"]).json()["troubles"], serde_json::json!([]));
    std::fs::remove_file(desk.path("chestnut.state")).expect("removed");
    desk.ok(&["sync"]);
    let told = desk.run(&["status"]);
    assert!(told.out.contains("a: the server's certificate expires in 87 days"), "{told:?}");
}
