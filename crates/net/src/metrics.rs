//! A text for other systems at an HTTP address.

use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{CONTENT_TYPE, HOST};
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::{TokioIo, TokioTimer};
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpListener;
use tokio::runtime::Handle;
use tokio::sync::{Semaphore, watch};

/// Connections at once; more wait.
const CONNECTIONS: usize = 16;
/// A client that says nothing for so long is let go.
const PATIENCE: Duration = Duration::from_secs(10);

/// Serves the newest text as `GET /metrics`, with this content type, until the sender of the texts is gone. Gives the
/// address that it listens on.
///
/// # Errors
/// When the address cannot be listened on.
pub fn serve_text(
    runtime: &Handle,
    address: SocketAddr,
    kind: &'static str,
    texts: watch::Receiver<Arc<str>>,
) -> std::io::Result<SocketAddr> {
    let listener = std::net::TcpListener::bind(address)?;
    listener.set_nonblocking(true)?;
    let bound = listener.local_addr()?;
    let _guard = runtime.enter();
    let listener = TcpListener::from_std(listener)?;
    runtime.spawn(accept(listener, kind, texts));
    Ok(bound)
}

async fn accept(listener: TcpListener, kind: &'static str, texts: watch::Receiver<Arc<str>>) {
    let places = Arc::new(Semaphore::new(CONNECTIONS));
    let mut gone = texts.clone();
    loop {
        let stream = tokio::select! {
            accepted = listener.accept() => match accepted {
                Ok((stream, _)) => stream,
                Err(error) => {
                    tracing::warn!(%error, "metrics");
                    tokio::time::sleep(Duration::from_millis(200)).await;
                    continue;
                }
            },
            () = async { while gone.changed().await.is_ok() {} } => return,
        };
        let Ok(place) = places.clone().acquire_owned().await else { return };
        let texts = texts.clone();
        tokio::spawn(async move {
            let answer = service_fn(move |request: Request<Incoming>| {
                let response = answer(&request, kind, &texts);
                async move { Ok::<_, Infallible>(response) }
            });
            let connection = hyper::server::conn::http1::Builder::new()
                .timer(TokioTimer::new())
                .header_read_timeout(PATIENCE)
                .keep_alive(false)
                .serve_connection(TokioIo::new(stream), answer);
            let _ = tokio::time::timeout(PATIENCE * 2, connection).await;
            drop(place);
        });
    }
}

/// Whether a request is meant for this machine by its `Host`: an address, or a name of the machine. A page in somebody's browser
/// that has its own name lead here is not answered.
fn is_meant(request: &Request<Incoming>) -> bool {
    let Some(host) = request.headers().get(HOST) else { return true };
    let Ok(host) = host.to_str() else { return false };
    let Ok(authority) = host.parse::<hyper::http::uri::Authority>() else { return false };
    let name = authority.host().trim_matches(['[', ']']).trim_end_matches('.').to_ascii_lowercase();
    let own = nix::unistd::gethostname().ok().and_then(|own| own.into_string().ok()).unwrap_or_default().to_ascii_lowercase();
    let is_own = !name.is_empty() && (name == own || own.split('.').next() == Some(name.as_str()));
    name.parse::<std::net::IpAddr>().is_ok() || name == "localhost" || is_own
}

fn answer(request: &Request<Incoming>, kind: &'static str, texts: &watch::Receiver<Arc<str>>) -> Response<Full<Bytes>> {
    let (status, kind, body) = match (request.method(), request.uri().path()) {
        _ if !is_meant(request) => (
            StatusCode::FORBIDDEN,
            "text/plain",
            "ask by this machine's address or name: another name was asked for\n".to_owned(),
        ),
        (&Method::GET | &Method::HEAD, "/metrics") => (StatusCode::OK, kind, texts.borrow().to_string()),
        (&Method::GET | &Method::HEAD, _) => (StatusCode::NOT_FOUND, "text/plain", "the figures are at /metrics\n".to_owned()),
        _ => (StatusCode::METHOD_NOT_ALLOWED, "text/plain", "only GET\n".to_owned()),
    };
    let response = Response::builder().status(status).header(CONTENT_TYPE, kind).body(Full::new(Bytes::from(body)));
    response.unwrap_or_else(|_| Response::new(Full::new(Bytes::new())))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read as _, Write as _};

    #[test]
    fn the_newest_text_is_served_and_nothing_else() {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let (texts, receiver) = watch::channel(Arc::from("a 1\n# EOF\n"));
        let any = "127.0.0.1:0".parse().unwrap();
        let address = serve_text(runtime.handle(), any, "text/x", receiver).unwrap();
        let ask = |request: &str| {
            let mut stream = std::net::TcpStream::connect(address).unwrap();
            stream.write_all(request.as_bytes()).unwrap();
            let mut answer = String::new();
            stream.read_to_string(&mut answer).unwrap();
            answer
        };
        let get = "GET /metrics HTTP/1.1\r\nhost: localhost\r\n\r\n";
        assert!(ask(get).contains("content-type: text/x") && ask(get).ends_with("a 1\n# EOF\n"));
        texts.send_replace(Arc::from("a 2\n# EOF\n"));
        assert!(ask(get).ends_with("a 2\n# EOF\n"));
        assert!(ask("GET / HTTP/1.1\r\nhost: localhost\r\n\r\n").starts_with("HTTP/1.1 404"));
        assert!(ask("POST /metrics HTTP/1.1\r\nhost: localhost\r\ncontent-length: 0\r\n\r\n").starts_with("HTTP/1.1 405"));
        assert!(ask("GET /metrics HTTP/1.1\r\nhost: evil.example\r\n\r\n").starts_with("HTTP/1.1 403"));
        assert!(ask(&format!("GET /metrics HTTP/1.1\r\nhost: {address}\r\n\r\n")).starts_with("HTTP/1.1 200"));
        // One that says nothing keeps no other from its answer.
        let silent: Vec<_> = (0..8).map(|_| std::net::TcpStream::connect(address).unwrap()).collect();
        assert!(ask(get).ends_with("a 2\n# EOF\n"));
        drop(silent);
        assert!(serve_text(runtime.handle(), address, "text/x", texts.subscribe()).is_err(), "it is taken");
    }
}
