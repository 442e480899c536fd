//! `chestnut account login`: OAuth 2.0 with a browser on this machine (RFC 8252), or with a code that is typed on
//! another device (RFC 8628).

use std::collections::HashMap;
use std::rc::Rc;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::{Query, State};
use axum::response::Html;
use axum::routing::get;
use chestnut_caldav::oauth::{
    OAuthClient, OAuthError, Pkce, TokenKeeper as _, Tokens, read_device_code, read_tokens,
};
use chestnut_caldav::{Answer, HttpTransport, Request, SignIn, Transport as _};
use chestnut_core::hex;
use secrecy::SecretString;
use tokio::net::TcpListener;
use tokio::sync::mpsc;

use crate::args::Common;
use crate::exit_code::ExitCode;
use crate::failure::Failure;
use crate::io::{Io, show};
use crate::open::{block_on, load};
use crate::render::clean;
use crate::render::human::account_login::human;
use crate::report::account_login::Report;
use crate::settings::{Keeper, SignInSettings, http_options, keep_of, oauth_client};
use crate::words::{
    NO_BROWSER, PAGE_OF_ANOTHER, PAGE_REFUSED, PAGE_SIGNED_IN, cannot_be_reached, no_device_address,
    no_oauth, no_random_numbers, nobody_signed_in, not_signed_in, open_in_browser, service_not_reached,
    tokens_not_kept, type_this_code,
};

/// So long a person has for the browser.
const PATIENCE: Duration = Duration::from_secs(600);

pub(crate) fn run(
    name: &str,
    code: bool,
    no_browser: bool,
    common: &Common,
    io: &mut Io<'_>,
) -> Result<ExitCode, Failure> {
    let settings = load(common, io)?;
    let account = settings.chosen_accounts(&[name.to_owned()])?[0].1;
    let SignInSettings::OAuth(oauth) = &account.sign_in else {
        return Err(no_oauth(name));
    };
    let base = settings.base();
    let keeper = Keeper {
        keep: keep_of(name, oauth, base),
        account: name.to_owned(),
        environment: io.environment.clone(),
    };
    let mut options = http_options(name, account, base, &io.environment)?;
    options.sign_in = SignIn::Nobody;
    let transport =
        HttpTransport::new(options).map_err(|e| cannot_be_reached(&format!("account {name}"), &e))?;
    let login = Login {
        name,
        client: oauth_client(&format!("account {name}"), oauth, base, &io.environment)?,
        transport: Rc::new(transport),
        now: keeper.now(),
    };
    let tokens = block_on(async {
        if code { login.by_code(io).await } else { login.by_browser(io, no_browser).await }
    })??;
    keeper.save(&tokens).map_err(|words| tokens_not_kept(name, &words))?;
    let renewable = tokens.refresh.is_some();
    let report = Report { account: name.to_owned(), signed_in: true, kept_in: keeper.place(), renewable };
    show(common, io, &report, || human(&report))?;
    Ok(ExitCode::Ok)
}

struct Login<'l> {
    name: &'l str,
    client: OAuthClient,
    transport: Rc<HttpTransport>,
    now: i64,
}

/// What came back to this machine's own address.
type Came = HashMap<String, String>;

impl Login<'_> {
    fn failure(&self, error: &OAuthError) -> Failure {
        not_signed_in(self.name, error)
    }

    async fn send(&self, request: &Request) -> Result<Answer, Failure> {
        self.transport.send(request).await.map_err(|error| service_not_reached(self.name, &error))
    }

    async fn by_browser(&self, io: &mut Io<'_>, no_browser: bool) -> Result<Tokens, Failure> {
        let mut random = [0; 48];
        getrandom::fill(&mut random).map_err(no_random_numbers)?;
        let (first, rest) = random.split_at(32);
        let pkce = Pkce::new(first.try_into().expect("it was split there"));
        let state = hex(rest);
        let listener = TcpListener::bind(("127.0.0.1", 0)).await?;
        let redirect = format!("http://127.0.0.1:{}/signed-in", listener.local_addr()?.port());
        let address = self.client.authorize_address(&redirect, &state, &pkce);
        io.say(&open_in_browser(&clean(address.as_str())))?;
        if !no_browser && open::that_detached(address.as_str()).is_err() {
            io.say(&format!("{NO_BROWSER}\n"))?;
        }
        let came = wait_for_browser(listener, state).await?;
        if let Some(error) = came.get("error") {
            let error =
                if error == "access_denied" { OAuthError::Denied } else { OAuthError::Refused(clean(error)) };
            return Err(self.failure(&error));
        }
        let code = came.get("code").map(|code| SecretString::from(code.clone()));
        let code = code.ok_or_else(|| self.failure(&OAuthError::Lacks("code".to_owned())))?;
        let answer = self.send(&self.client.exchange(&code, &redirect, &pkce)).await?;
        read_tokens(&answer, self.now).map_err(|error| self.failure(&error))
    }

    async fn by_code(&self, io: &mut Io<'_>) -> Result<Tokens, Failure> {
        let request = self.client.ask_for_device().ok_or_else(|| no_device_address(self.name))?;
        let device = read_device_code(&self.send(&request).await?).map_err(|error| self.failure(&error))?;
        let (uri, code) = (clean(&device.verification_uri), clean(&device.user_code));
        io.say(&type_this_code(&uri, &code))?;
        let mut pause = Duration::from_secs(device.interval);
        let mut waited = Duration::ZERO;
        loop {
            tokio::time::sleep(pause).await;
            waited += pause;
            let answer = self.send(&self.client.poll_device(&device)).await?;
            match read_tokens(&answer, self.now) {
                Ok(tokens) => return Ok(tokens),
                Err(OAuthError::SlowDown) => pause += Duration::from_secs(5),
                Err(OAuthError::Pending) => {}
                Err(error) => return Err(self.failure(&error)),
            }
            if waited.as_secs() > device.expires_in.unsigned_abs() {
                return Err(self.failure(&OAuthError::Expired));
            }
        }
    }
}

#[derive(Clone)]
struct Waiting {
    state: Arc<str>,
    tell: mpsc::Sender<Came>,
}

/// Waits for the browser to come back with this state; others are turned away.
async fn wait_for_browser(listener: TcpListener, state: String) -> Result<Came, Failure> {
    let (tell, mut hear) = mpsc::channel(1);
    let waiting = Waiting { state: state.into(), tell };
    let app = Router::new().route("/signed-in", get(came_back)).with_state(waiting);
    let server = tokio::spawn(async move { drop(axum::serve(listener, app).await) });
    let came = tokio::select! {
        came = tokio::time::timeout(PATIENCE, hear.recv()) => came.ok().flatten(),
        stopped = tokio::signal::ctrl_c() => { stopped?; None }
    };
    // The page still has to reach the browser.
    tokio::time::sleep(Duration::from_millis(50)).await;
    server.abort();
    came.ok_or_else(nobody_signed_in)
}

async fn came_back(State(waiting): State<Waiting>, Query(came): Query<Came>) -> Html<&'static str> {
    if came.get("state").map(String::as_str) != Some(&waiting.state) {
        return Html(PAGE_OF_ANOTHER);
    }
    let refused = came.contains_key("error");
    // A second answer is of no use.
    drop(waiting.tell.try_send(came));
    Html(if refused { PAGE_REFUSED } else { PAGE_SIGNED_IN })
}
