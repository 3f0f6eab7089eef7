//! Stand-ins that answer WS-Discovery probes, each from its own address, on loopback alone.

use crate::camera::Shared;
use lattice_core::onvif::{Element, MAX_DATAGRAM, emit_match};
use socket2::{Domain, Protocol, Socket, Type};
use std::io;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;
use tokio::net::UdpSocket;

const GROUP: Ipv4Addr = Ipv4Addr::new(239, 255, 255, 250);
const PORT: u16 = 3702;

/// Answers probes until its task is dropped: those sent to the group through loopback, and those sent to a
/// stand-in's own address.
pub(crate) async fn serve(cameras: Vec<Arc<Shared>>) {
    let group = listen(GROUP);
    if let Err(error) = &group {
        tracing::warn!(%error, "no multicast on loopback: probes must be sent to the stand-ins themselves");
    }
    let mut tasks = tokio::task::JoinSet::new();
    for camera in &cameras {
        if let IpAddr::V4(address) = camera.address.borrow().ip()
            && let Ok(socket) = listen(address)
        {
            tasks.spawn(answer(socket, vec![camera.clone()]));
        }
    }
    if let Ok(socket) = group {
        tasks.spawn(answer(socket, cameras));
    }
    while tasks.join_next().await.is_some() {}
}

fn listen(address: Ipv4Addr) -> io::Result<UdpSocket> {
    let socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::UDP))?;
    socket.set_nonblocking(true)?;
    socket.set_reuse_address(true)?;
    socket.bind(&SocketAddr::from((address, PORT)).into())?;
    if address == GROUP {
        socket.join_multicast_v4(&GROUP, &Ipv4Addr::LOCALHOST)?;
    }
    UdpSocket::from_std(socket.into())
}

async fn answer(socket: UdpSocket, cameras: Vec<Arc<Shared>>) {
    let mut buffer = vec![0; MAX_DATAGRAM];
    loop {
        let Ok((length, from)) = socket.recv_from(&mut buffer).await else { continue };
        let Ok(document) = Element::parse(buffer.get(..length).unwrap_or_default()) else { continue };
        let is_probe = document.child("Body").is_some_and(|body| body.child("Probe").is_some());
        if !is_probe || !from.ip().is_loopback() {
            continue;
        }
        let id = document.child("Header").and_then(|header| header.text_at(&["MessageID"])).unwrap_or("").to_owned();
        for camera in &cameras {
            let (camera, id) = (camera.clone(), id.clone());
            // Devices wait a moment, so that not all answer at once.
            let wait = std::time::Duration::from_millis(rand::random_range(0..120));
            tokio::spawn(async move {
                tokio::time::sleep(wait).await;
                let ip = camera.address.borrow().ip();
                if let Ok(socket) = UdpSocket::bind((ip, 0)).await {
                    let _ = socket.send_to(emit_match(&id, &camera.announcement()).as_bytes(), from).await;
                }
            });
        }
    }
}
