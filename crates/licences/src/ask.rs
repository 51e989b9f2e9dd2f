//! Asking a service, with patience and an end to it.

use crate::{Answer, State, Wish, is_identifier};
use badger_drive::text::plain;
use std::fmt;
use std::time::Duration;

/// Answers are no longer than this, in bytes.
const MOST: u64 = 64 << 10;
/// Nor is what they say, in letters.
const MOST_WORDS: usize = 300;

/// How long a service is waited for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Patience {
    /// For one answer.
    pub answer: Duration,
    /// It is asked so many times.
    pub tries: u32,
    /// Before it is asked again; twice as long each time.
    pub pause: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Self { answer: Duration::from_secs(5), tries: 3, pause: Duration::from_millis(500) }
    }
}

/// Why there is no answer: nothing is known of the licence then.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unanswered(pub String);

impl fmt::Display for Unanswered {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

fn once(agent: &ureq::Agent, service: &str, licence: &str, device: &str, wish: Wish) -> Result<Answer, (bool, String)> {
    let base = service.trim_end_matches('/');
    let body = || serde_json::json!({ "licence": licence, "device": device }).to_string();
    let place = format!("{base}/activations");
    let sent = match wish {
        Wish::Look => agent.get(format!("{base}/licences/{licence}?device={device}")).call(),
        Wish::Activate => agent.put(place).content_type("application/json").send(body()),
        Wish::Release => agent.delete(place).force_send_body().content_type("application/json").send(body()),
    };
    let mut response = sent.map_err(|error| (true, error.to_string()))?;
    let status = response.status().as_u16();
    if !matches!(status, 200 | 404 | 409) {
        return Err((status >= 500, format!("it answers {status}")));
    }
    let text = response.body_mut().with_config().limit(MOST).read_to_string().map_err(|error| (false, error.to_string()))?;
    let answer: Answer = serde_json::from_str(&text).map_err(|_| (false, "what it answers makes no sense".to_string()))?;
    // What it says must go with how it says it.
    let is_told = match answer.state {
        State::Unknown => status == 404,
        State::Refused => status == 409,
        _ => status == 200,
    };
    if !is_told || answer.why.chars().count() > MOST_WORDS || plain(&answer.why) != answer.why {
        return Err((false, "what it answers makes no sense".into()));
    }
    Ok(answer)
}

/// Asks the service at `service` (`http://HOST:PORT`) for a licence and a device, by their identifiers. A service that turns away, or does not
/// answer, is asked again.
///
/// # Errors
/// There was no answer that could be understood; whether what was wished is done is not known then.
pub fn ask(service: &str, licence: &str, device: &str, wish: Wish, patience: Patience) -> Result<Answer, Unanswered> {
    let wrong = |why: String| Unanswered(format!("{service}: {why}"));
    if !service.starts_with("http://") {
        return Err(wrong("a licence service is named by http://HOST:PORT".into()));
    }
    if !is_identifier(licence) || !is_identifier(device) {
        return Err(wrong("licences and devices are named by identifiers of 32 digits".into()));
    }
    let config = ureq::Agent::config_builder()
        .timeout_global(Some(patience.answer))
        .http_status_as_error(false)
        .max_redirects(0)
        .user_agent("zealous-badger")
        .build();
    let agent = config.new_agent();
    let (mut pause, mut last) = (patience.pause, String::new());
    for attempt in 1..=patience.tries.max(1) {
        match once(&agent, service, licence, device, wish) {
            Ok(answer) => return Ok(answer),
            Err((false, why)) => return Err(wrong(why)),
            Err((true, why)) => last = why,
        }
        if attempt < patience.tries {
            std::thread::sleep(pause);
            pause *= 2;
        }
    }
    Err(wrong(format!("no answer, asked {} times: {last}", patience.tries.max(1))))
}
