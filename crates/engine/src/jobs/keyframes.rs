//! Keyframes by the device service, for cameras that RTCP cannot ask: their pictures wait for one after a loss, or in the middle of
//! a stream.

use super::Errands;
use crate::device::{Line, Urgency};
use lattice_core::target::Target;
use lattice_net::{Device, DeviceError};
use lattice_store::Role;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

/// The device's names of streams, by camera and address; `None` for one that does not do it.
pub(crate) type Tokens = Arc<Mutex<HashMap<(String, String), Option<String>>>>;

impl Errands {
    /// Asks the device of a camera for a keyframe in one of its streams, before all that waits for the device. False where that
    /// is not to be had.
    pub fn ask_keyframe(&self, name: &str, role: Role) -> bool {
        let Some(Target::Url(url)) =
            self.kept.file.site().camera(name).and_then(|camera| camera.stream(role)).map(|stream| stream.target.clone())
        else {
            return false;
        };
        let Ok((device, key, signed)) = self.device(name) else { return false };
        let (tokens, of) = (self.tokens.clone(), (name.to_owned(), url.path().to_owned()));
        let known = |tokens: &Tokens| tokens.lock().unwrap_or_else(PoisonError::into_inner).get(&of).cloned();
        let token = match known(&tokens) {
            Some(None) => return false,
            Some(Some(token)) => Some(token),
            None => None,
        };
        let work = async move |line: &mut Line| {
            let asked = ask(line, token, &of.1, signed).await;
            let keep = match asked {
                Ok(token) => Some(token),
                Err(DeviceError::Http(_)) => return, // it may be there the next time
                // It does not do it, or not for us: it is not asked again.
                Err(_) => None,
            };
            tokens.lock().unwrap_or_else(PoisonError::into_inner).insert(of, keep);
        };
        self.queues.ask(&key, device, Urgency::Urgent, move |line| Box::pin(work(line))).is_ok()
    }
}

/// Asks; gives the device's name of the stream.
async fn ask(line: &mut Line, token: Option<String>, path: &str, signed: bool) -> Result<String, DeviceError> {
    let device: &mut Device = line.greeted().await?;
    let token = if let Some(token) = token {
        token
    } else {
        let streams = device.streams(signed).await?;
        let is_it = |offered: &lattice_net::Offered| offered.url.as_ref().is_some_and(|url| url.path() == path);
        let found = streams.into_iter().find(is_it).map(|offered| offered.profile.token);
        found.ok_or_else(|| DeviceError::Unreadable("it does not name this stream".into()))?
    };
    device.synchronize(&token).await?;
    Ok(token)
}
