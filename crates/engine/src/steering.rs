//! Steering a camera: a task for each head that somebody has a hand on. It turns what the hand does into orders
//! ([`lattice_core::steer`]), and sends them through the device's queue: the newest direction wins, a stop goes first.

use crate::device::{DeviceKey, Queues, Urgency};
use crate::jobs::JobNews;
use crossbeam_channel::Sender;
use lattice_core::Mono;
use lattice_core::onvif::{Axes, Preset, PtzNode, PtzStatus};
use lattice_core::steer::{MovedBy, Movement, Order, Pace, Patrol, PatrolStop, Steer};
use lattice_net::{Device, DeviceError, Head, HeadOrder, clock};
use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

/// Where it looks is asked this often while it moves,
const WHILE_MOVING: Duration = Duration::from_millis(200);
/// and while it rests.
const AT_REST: Duration = Duration::from_secs(1);
/// A stop does not wait longer for an answer that is outstanding: it goes on a connection of its own.
const STOP_WAITS: Duration = Duration::from_millis(100);
/// A head that moves so long after a stop did not obey.
const OBEYS_WITHIN: Duration = Duration::from_millis(800);
/// So often a stop is said again.
const STOPS: u32 = 3;
/// It was ordered to move for so long, and looks where it looked before: it is at its end.
const AT_ITS_END: Duration = Duration::from_millis(700);
/// Orders that wait at most.
const WAITING: usize = 16;

/// What a hand does.
#[derive(Debug, Clone, PartialEq)]
pub enum Hand {
    /// It takes the head, unless somebody on another screen of the site has it.
    Begin,
    /// It takes the head, whoever has it.
    TakeOver,
    /// A key is pressed or held: this way, so fast.
    Press(Axes<f64>, Pace),
    /// The mouse is held so far from the middle.
    Drag(Axes<f64>),
    /// The focus is held nearer (less than 0) or further.
    Focus(f64),
    /// It lets go.
    Release,
    /// A single order.
    Do(HeadOrder),
    /// A preset gets another name: the head goes there first, since devices keep a name together with a place.
    Rename(String, String),
    /// Presets one after the other, each for so long; none ends it.
    Patrol(Vec<(String, Duration)>),
    /// It leaves the head.
    End,
}

/// How a head stands.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct HeadState {
    /// What it can do; `None` before it was asked, and where it cannot be steered.
    pub node: Option<PtzNode>,
    /// Its focus can be moved from here.
    pub focuses: bool,
    /// Its presets.
    pub presets: Vec<Preset>,
    /// Where it looks, on the scales of its positions.
    pub position: Axes<Option<f64>>,
    /// How wide the picture is on the scale of pan, and at which zoom: measured when a point was brought to the middle.
    pub view: Option<(f64, f64)>,
    /// It moves, by what it says.
    pub moving: Option<bool>,
    /// The way that it is told to move now, as shares of its fastest.
    pub ordered: Option<Axes<f64>>,
    /// From an order to the device's answer, of the last one.
    pub answered: Option<Duration>,
    /// What became of the last order in the picture.
    pub moved: Option<MovedBy>,
    /// What is wrong, or that it is at its end.
    pub said: Option<String>,
    /// A patrol runs; true where it waits for whoever steers.
    pub patrol: Option<bool>,
    /// Why it cannot be steered.
    pub refused: Option<String>,
    /// Who steers it on another screen of the site: [`Hand::TakeOver`] takes it.
    pub taken_by: Option<String>,
}

/// What came of something that the device was asked.
enum Answer {
    Head(Result<Option<Box<Head>>, DeviceError>),
    Presets(Vec<Preset>),
    Status(Result<PtzStatus, DeviceError>),
    Done(HeadOrder, Mono, Result<(), DeviceError>),
}

/// A hand on a head.
#[derive(Debug, Clone)]
pub(crate) struct Grip(UnboundedSender<Hand>);

impl Grip {
    /// The hand does something; false when its task has ended.
    pub fn does(&self, hand: Hand) -> bool {
        self.0.send(hand).is_ok()
    }

    /// Takes the head of a camera.
    pub fn take(runtime: &tokio::runtime::Handle, reached: Reached, movement: Option<Arc<Mutex<Movement>>>) -> Self {
        let (sender, hands) = unbounded_channel();
        let (answer, answers) = unbounded_channel();
        let task = Task {
            reached,
            movement,
            steer: Steer::new(Duration::from_millis(300), Duration::from_millis(100)),
            focus: Steer::new(Duration::from_millis(300), Duration::from_millis(100)),
            head: None,
            state: HeadState::default(),
            pending: None,
            orders: VecDeque::new(),
            outstanding: None,
            status: (false, Mono::ZERO),
            stopped: None,
            stuck: None,
            patrol: None,
            looked: None,
            answer,
        };
        runtime.spawn(task.run(hands, answers));
        Self(sender)
    }
}

/// How a camera's device is reached, and who is told.
pub(crate) struct Reached {
    /// The camera.
    pub name: String,
    /// Its device.
    pub device: Device,
    /// Whose queue it has.
    pub key: DeviceKey,
    /// All queues.
    pub queues: Queues,
    /// Where its state goes.
    pub news: Sender<JobNews>,
}

struct Task {
    reached: Reached,
    movement: Option<Arc<Mutex<Movement>>>,
    steer: Steer,
    focus: Steer,
    head: Option<Arc<Head>>,
    state: HeadState,
    /// The newest order to move or to stop that is not sent yet.
    pending: Option<HeadOrder>,
    orders: VecDeque<HeadOrder>,
    /// Since when an answer is waited for, and whether that is an order.
    outstanding: Option<Mono>,
    /// Whether a status is being asked, and when it was asked last.
    status: (bool, Mono),
    /// When it was told to stop, and how often.
    stopped: Option<(Mono, u32)>,
    /// Since when it looks where it looked, though it is told to move.
    stuck: Option<(Mono, Axes<Option<f64>>)>,
    patrol: Option<Patrol>,
    /// What was brought to the middle, by so many halves of the picture, and where it looked before.
    looked: Option<(f64, Axes<Option<f64>>)>,
    answer: UnboundedSender<Answer>,
}

impl Task {
    async fn run(mut self, mut hands: UnboundedReceiver<Hand>, mut answers: UnboundedReceiver<Answer>) {
        self.ask(|device| Box::pin(async move { Answer::Head(device.head().await.map(|head| head.map(Box::new))) }));
        loop {
            let due = self.due();
            tokio::select! {
                hand = hands.recv() => match hand {
                    None | Some(Hand::End) => break,
                    Some(hand) => self.take(hand),
                },
                Some(answer) = answers.recv() => {
                    if self.hear(answer) {
                        break;
                    }
                }
                () = tokio::time::sleep(due) => self.tick(),
            }
        }
        if self.steer.moves() || self.focus.moves() {
            let (head, device) = (self.head.clone(), self.reached.device.apart());
            if let Some(head) = head {
                let _ = device.steer(&head, &HeadOrder::Stop).await;
            }
        }
    }

    /// How long until something is to be done without anybody's doing.
    fn due(&self) -> Duration {
        let now = clock::now();
        let every = if self.state.moving == Some(true) || self.steer.moves() { WHILE_MOVING } else { AT_REST };
        let stop_waits = self.outstanding.filter(|_| self.pending == Some(HeadOrder::Stop)).map(|since| since + STOP_WAITS);
        let steps =
            [self.steer.due(), self.focus.due(), Some(self.status.1 + every), self.patrol.as_ref().map(Patrol::due), stop_waits];
        let next = steps.into_iter().flatten().min().unwrap_or(now + AT_REST);
        next.since(now).max(Duration::from_millis(1))
    }

    fn take(&mut self, hand: Hand) {
        let now = clock::now();
        match hand {
            Hand::Begin | Hand::TakeOver | Hand::End => {}
            Hand::Press(way, pace) => {
                let order = self.steer.press(now, way, pace);
                self.move_on(now, order);
            }
            Hand::Drag(way) => {
                let order = self.steer.drag(now, way);
                self.move_on(now, order);
            }
            Hand::Focus(way) => {
                let order = self.focus.press(now, Axes { pan: way, ..Axes::default() }, Pace::Fast);
                self.move_focus(order);
            }
            Hand::Release => {
                let (moves, focus) = (self.steer.release(), self.focus.release());
                self.move_on(now, moves);
                self.move_focus(focus);
            }
            Hand::Do(order) => {
                self.patrol = None;
                self.wait(order);
            }
            Hand::Rename(preset, name) => {
                self.wait(HeadOrder::GoTo(preset.clone()));
                self.wait(HeadOrder::Keep(name, Some(preset)));
            }
            Hand::Patrol(stops) => {
                let stops = stops.into_iter().map(|(preset, stay)| PatrolStop { preset, stay }).collect();
                self.patrol = Patrol::begin(stops, now);
            }
        }
        self.send();
        self.tell();
    }

    fn wait(&mut self, order: HeadOrder) {
        if self.orders.len() < WAITING {
            self.orders.push_back(order);
        } else {
            self.state.said = Some("it answers too slowly: this order was left out".into());
        }
    }

    /// An order to move or to stop, where there is one.
    fn move_on(&mut self, now: Mono, order: Option<Order>) {
        let Some(order) = order else { return };
        if let Some(patrol) = &mut self.patrol {
            patrol.pause(now);
        }
        match order {
            Order::Move(way) => {
                if self.state.ordered.is_none()
                    && let Some(movement) = &self.movement
                {
                    movement.lock().unwrap_or_else(PoisonError::into_inner).ordered(now);
                }
                self.stopped = None;
                self.state.ordered = Some(way);
                self.pending = Some(HeadOrder::Move(way));
            }
            Order::Stop => {
                (self.state.ordered, self.stuck) = (None, None);
                self.stopped = Some((now, 0));
                self.pending = Some(HeadOrder::Stop);
            }
        }
    }

    fn move_focus(&mut self, order: Option<Order>) {
        match order {
            Some(Order::Move(way)) => self.wait(HeadOrder::Focus(way.pan)),
            Some(Order::Stop) => self.wait(HeadOrder::Focus(0.0)),
            None => {}
        }
    }

    /// Sends the newest order, or the next that waits, where none is outstanding.
    fn send(&mut self) {
        let Some(mut head) = self.head.clone() else { return };
        if self.outstanding.is_some() {
            return;
        }
        // What the head is on its way to must be reached before a name is given to it.
        let rests = self.state.moving != Some(true);
        let next = self.pending.take().or_else(|| {
            let waits = matches!(self.orders.front(), Some(HeadOrder::Keep(_, Some(_)))) && !rests;
            if waits { None } else { self.orders.pop_front() }
        });
        let Some(order) = next else { return };
        let since = clock::now();
        if matches!(order, HeadOrder::Move(_)) {
            Arc::make_mut(&mut head).timeout = self.steer.lasts(since);
        }
        self.outstanding = Some(since);
        self.looked = match order {
            HeadOrder::Look { x, zoom, .. } if x.abs() > 0.15 && (zoom - 1.0).abs() < 0.01 => Some((x, self.state.position)),
            _ => None,
        };
        if matches!(order, HeadOrder::GoTo(_) | HeadOrder::Home | HeadOrder::Look { .. }) {
            // It is on its way, whatever it says of itself before it begins; that it moves is no disobedience.
            self.state.moving = Some(true);
            self.stopped = None;
            self.status.1 = since;
        }
        self.ask(move |device| {
            Box::pin(async move {
                let done = device.steer(&head, &order).await;
                Answer::Done(order, since, done)
            })
        });
    }

    /// Asks the device something, before all that waits there.
    fn ask(
        &mut self,
        work: impl for<'a> FnOnce(&'a Device) -> std::pin::Pin<Box<dyn Future<Output = Answer> + Send + 'a>> + Send + 'static,
    ) {
        let answer = self.answer.clone();
        let Reached { queues, key, device, .. } = &self.reached;
        let asked = queues.ask(key, device.clone(), Urgency::Urgent, move |line| {
            Box::pin(async move {
                if let Ok(device) = line.greeted().await {
                    let _ = answer.send(work(device).await);
                } else {
                    let device = line.device();
                    let _ = answer.send(work(device).await);
                }
            })
        });
        if let Err(busy) = asked {
            self.outstanding = None;
            self.state.said = Some(busy.to_string());
        }
    }

    /// Something was answered; true where the head cannot be steered.
    fn hear(&mut self, answer: Answer) -> bool {
        let now = clock::now();
        match answer {
            Answer::Head(Ok(Some(head))) => {
                self.state.node = Some(head.node.clone());
                self.state.focuses = head.focuses();
                (self.steer, self.focus) = (Steer::new(head.timeout, head.least), Steer::new(head.timeout, head.least));
                self.head = Some(Arc::new(*head));
                self.ask_presets();
                self.ask_status(now);
            }
            Answer::Head(Ok(None)) => {
                return self.refuse("it cannot be steered: its device names no PTZ service, or none that moves");
            }
            Answer::Head(Err(error)) => return self.refuse(&format!("it cannot be asked what it can: {error}")),
            Answer::Presets(presets) => self.state.presets = presets,
            Answer::Status(Ok(status)) => {
                self.status.0 = false;
                self.see(now, status);
            }
            Answer::Status(Err(_)) => self.status.0 = false, // where it looks is not known; orders tell what is wrong
            Answer::Done(order, since, done) => {
                self.outstanding = None;
                match done {
                    Ok(()) => {
                        self.state.answered = Some(now.since(since));
                        self.state.said = None;
                        if matches!(order, HeadOrder::Keep(..) | HeadOrder::Forget(_)) {
                            self.ask_presets();
                        }
                    }
                    Err(error) => {
                        self.state.said = Some(error.to_string());
                        self.orders.clear();
                    }
                }
                self.send();
            }
        }
        self.tell();
        false
    }

    fn refuse(&mut self, why: &str) -> bool {
        self.state.refused = Some(why.to_owned());
        self.tell();
        true
    }

    fn ask_presets(&mut self) {
        let Some(head) = self.head.clone() else { return };
        self.ask(move |device| Box::pin(async move { Answer::Presets(device.presets(&head).await.unwrap_or_default()) }));
    }

    fn ask_status(&mut self, now: Mono) {
        let Some(head) = self.head.clone() else { return };
        self.status = (true, now);
        self.ask(move |device| Box::pin(async move { Answer::Status(device.head_status(&head).await) }));
    }

    /// Where it looks now: whether it is at its end, whether it obeys.
    fn see(&mut self, now: Mono, status: PtzStatus) {
        self.state.position = status.position;
        self.state.moving = status.moving;
        if status.moving == Some(false)
            && self.outstanding.is_none()
            && let Some((halves, before)) = self.looked.take()
            && let Some(((from, to), zoom)) = before.pan.zip(status.position.pan).zip(status.position.zoom)
            && (to - from).abs() > 0.0
        {
            self.state.view = Some(((to - from).abs() * 2.0 / halves.abs(), zoom));
        }
        match (self.state.ordered, self.stuck) {
            (Some(_), Some((since, before))) if before == status.position => {
                if now.since(since) >= AT_ITS_END && status.position != Axes::default() {
                    self.state.said = Some("it goes no further that way".into());
                }
            }
            (Some(_), _) => self.stuck = Some((now, status.position)),
            (None, _) => self.stuck = None,
        }
        if let Some((since, times)) = self.stopped.filter(|(since, _)| now.since(*since) >= OBEYS_WITHIN) {
            self.stopped = match status.moving {
                Some(true) if times < STOPS && self.orders.is_empty() => {
                    self.pending = Some(HeadOrder::Stop);
                    self.state.said = Some("it goes on though it was told to stop: it is told again".into());
                    Some((now, times + 1))
                }
                Some(true) => {
                    self.state.said = Some("it does not stop: it moves by itself, or its device is at fault".into());
                    Some((since, times))
                }
                _ => None,
            };
        }
        self.send();
    }

    fn tick(&mut self) {
        let now = clock::now();
        let (moves, focus) = (self.steer.tick(now), self.focus.tick(now));
        self.move_on(now, moves);
        self.move_focus(focus);
        if let Some(preset) = self.patrol.as_mut().and_then(|patrol| patrol.tick(now)).map(str::to_owned) {
            self.wait(HeadOrder::GoTo(preset));
        }
        // An answer is outstanding for long: a stop does not wait for it.
        let late = self.outstanding.is_some_and(|since| now.since(since) >= STOP_WAITS);
        if late
            && self.pending == Some(HeadOrder::Stop)
            && let Some(head) = self.head.clone()
        {
            self.pending = None;
            let device = self.reached.device.apart();
            tokio::spawn(async move { drop(device.steer(&head, &HeadOrder::Stop).await) });
        }
        self.send();
        let every = if self.state.moving == Some(true) || self.steer.moves() { WHILE_MOVING } else { AT_REST };
        if !self.status.0 && now.since(self.status.1) >= every {
            self.ask_status(now);
        }
        self.tell();
    }

    fn tell(&mut self) {
        let movement = self.movement.as_ref().map(|movement| movement.lock().unwrap_or_else(PoisonError::into_inner).state());
        self.state.moved = movement.flatten();
        self.state.patrol = self.patrol.as_ref().map(Patrol::is_paused);
        let _ = self.reached.news.send(JobNews::Head(self.reached.name.clone(), Box::new(self.state.clone())));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crossbeam_channel::{Receiver, unbounded};
    use lattice_core::Credentials;
    use lattice_sim::{Aim, Camera, HeadFault, Log, Port, steerable};
    use std::time::Instant;

    const RIGHT: Axes<f64> = Axes { pan: 1.0, tilt: 0.0, zoom: 0.0 };

    struct Rig {
        runtime: Option<tokio::runtime::Runtime>,
        _cameras: (tokio::runtime::Runtime, Port),
        camera: Camera,
        grip: Grip,
        news: Receiver<JobNews>,
    }

    /// A hand on the stand-in's head. The cameras have a runtime of their own, which outlives the hand.
    fn rig() -> Rig {
        let build = || tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let (runtime, cameras) = (build(), build());
        let port = cameras.block_on(Port::start(vec![steerable(0)], Log::default())).unwrap();
        let camera = port.cameras()[0].clone();
        let at = camera.service_address();
        let (sender, news) = unbounded();
        let device = Device::new(&at.ip().to_string(), at.port(), Some(Credentials::new("harbour", "ebb-and-flow")), None);
        let key = (at.ip().to_string(), at.port(), None);
        let queues = Queues::new(runtime.handle().clone());
        let reached = Reached { name: "Mast camera".into(), device, key, queues, news: sender };
        let grip = Grip::take(runtime.handle(), reached, None);
        let rig = Rig { runtime: Some(runtime), _cameras: (cameras, port), camera, grip, news };
        rig.told("what it can", |state| state.node.is_some() && state.presets.len() == 4 && state.position.pan.is_some());
        rig
    }

    impl Rig {
        /// A state that fits, within ten seconds.
        fn told(&self, what: &str, fits: impl Fn(&HeadState) -> bool) -> HeadState {
            let deadline = Instant::now() + Duration::from_secs(10);
            let mut last = HeadState::default();
            while let Ok(news) = self.news.recv_deadline(deadline) {
                let JobNews::Head(_, state) = news else { continue };
                last = *state;
                if fits(&last) {
                    return last;
                }
            }
            panic!("{what}: {last:?}");
        }

        fn until(&self, what: &str, fits: impl Fn(&Camera) -> bool) {
            let deadline = Instant::now() + Duration::from_secs(10);
            while !fits(&self.camera) {
                assert!(Instant::now() < deadline, "{what}: {:?}", self.camera.aim());
                std::thread::sleep(Duration::from_millis(5));
            }
        }

        /// A key is held, until something is so.
        fn hold(&self, what: &str, way: Axes<f64>, until: impl Fn(&Camera) -> bool) {
            let deadline = Instant::now() + Duration::from_secs(10);
            while !until(&self.camera) {
                assert!(Instant::now() < deadline, "{what}: {:?}", self.camera.aim());
                self.grip.does(Hand::Press(way, Pace::Fast));
                std::thread::sleep(Duration::from_millis(30));
            }
        }

        fn aim(&self) -> Aim {
            self.camera.aim().unwrap()
        }
    }

    fn pan_beyond(degrees: f64) -> impl Fn(&Camera) -> bool {
        move |camera| camera.aim().unwrap().pan > degrees
    }

    #[test]
    fn a_head_moves_while_a_key_is_held_and_stands_still_when_whatever_holds_it_is_gone() {
        let mut rig = rig();
        rig.hold("it turns", RIGHT, pan_beyond(8.0));
        let state = rig.told("the order is told", |state| state.ordered.is_some() && state.answered.is_some());
        assert_eq!(state.ordered, Some(RIGHT));
        rig.until("it stops when the key is told no more", |camera| !camera.is_turning());
        rig.told("it rests", |state| state.ordered.is_none() && state.position.pan.is_some() && state.moving == Some(false));
        // The other way, and let go at once.
        rig.hold("it turns back", Axes { pan: -1.0, ..RIGHT }, |camera| camera.aim().unwrap().pan < 5.0);
        rig.grip.does(Hand::Release);
        rig.until("it stops when the key is let go", |camera| !camera.is_turning());
        // Nearer, by the mouse, and the hand leaves.
        rig.grip.does(Hand::Drag(Axes { zoom: 1.0, ..Axes::default() }));
        rig.until("it looks nearer", |camera| camera.aim().unwrap().zoom > 1.2);
        rig.grip.does(Hand::End);
        rig.until("it stops when the hand leaves", |camera| !camera.is_turning());
        // The program dies in the middle of a move: nobody says stop.
        let again = self::rig();
        again.hold("it turns", RIGHT, pan_beyond(3.0));
        let Rig { runtime, camera, .. } = again;
        runtime.unwrap().shutdown_background();
        let deadline = Instant::now() + Duration::from_secs(5);
        while camera.is_turning() {
            assert!(Instant::now() < deadline, "its own time-out");
            std::thread::sleep(Duration::from_millis(5));
        }
        drop(rig.runtime.take());
    }

    #[test]
    fn points_are_centred_presets_kept_and_patrols_wait_for_whoever_steers() {
        let rig = rig();
        let near =
            |degrees: f64| move |camera: &Camera| (camera.aim().unwrap().pan - degrees).abs() < 0.5 && !camera.is_turning();
        // What a picture shows is measured by that, as wide as it was.
        rig.grip.does(Hand::Do(HeadOrder::Look { x: -0.5, y: 0.0, zoom: 1.0 }));
        rig.until("half of half a picture to the left", near(-22.5));
        let seen = rig.told("how wide the picture is", |state| state.view.is_some());
        assert!((seen.view.unwrap().0 - 90.0).abs() < 2.0, "{:?}", seen.view);
        rig.grip.does(Hand::Do(HeadOrder::Home));
        rig.until("home", near(0.0));
        rig.grip.does(Hand::Do(HeadOrder::Look { x: 0.5, y: 0.0, zoom: 2.0 }));
        rig.until("half of half a picture to the right", near(22.5));
        assert!((rig.aim().zoom - 2.0).abs() < 0.1);
        rig.grip.does(Hand::Do(HeadOrder::Keep("crane <&>".into(), None)));
        let kept = rig.told("it is kept", |state| state.presets.len() == 5);
        let preset = kept.presets.into_iter().find(|preset| preset.name == "crane <&>").unwrap();
        rig.grip.does(Hand::Do(HeadOrder::Home));
        rig.until("home", near(0.0));
        // On its way to a place right after a stop it is left alone.
        rig.hold("it turns", RIGHT, pan_beyond(6.0));
        rig.grip.does(Hand::Release);
        rig.grip.does(Hand::Do(HeadOrder::GoTo("3".into())));
        rig.until("it gets there", near(-92.0));
        rig.grip.does(Hand::Do(HeadOrder::Home));
        rig.until("home", near(0.0));
        // Another name leaves the place as it was.
        rig.grip.does(Hand::Rename(preset.token.clone(), "crane".into()));
        rig.told("it has the name", |state| state.presets.iter().any(|preset| preset.name == "crane"));
        rig.until("it went there", near(22.5));
        rig.grip.does(Hand::Do(HeadOrder::Forget(preset.token)));
        let state = rig.told("it is gone", |state| state.presets.len() == 4);
        rig.grip.does(Hand::Do(HeadOrder::GoTo("99".into())));
        rig.told("one that is not there", |state| state.said.as_ref().is_some_and(|said| said.contains("no such preset")));
        let stops = state.presets.iter().map(|preset| (preset.token.clone(), Duration::from_secs(2))).collect();
        rig.grip.does(Hand::Patrol(stops));
        rig.until("the second stop", |camera| camera.aim().unwrap().pan > 60.0);
        rig.hold("somebody steers", RIGHT, pan_beyond(86.0));
        rig.told("it waits", |state| state.patrol == Some(true));
        rig.grip.does(Hand::Patrol(Vec::new()));
        rig.told("it ends", |state| state.patrol.is_none());
        rig.grip.does(Hand::Do(HeadOrder::Switch("tt:Wiper|On".into())));
        rig.grip.does(Hand::Do(HeadOrder::Switch("tt:Laser|On".into())));
        rig.told("no such output", |state| state.said.as_ref().is_some_and(|said| said.contains("no such output")));
    }

    #[test]
    fn a_head_that_misbehaves_is_told_of_and_nothing_waits_for_it() {
        let rig = rig();
        let says = |words: &'static str| move |state: &HeadState| state.said.as_ref().is_some_and(|said| said.contains(words));
        rig.camera.head_fault(HeadFault::Refuses);
        rig.grip.does(Hand::Press(RIGHT, Pace::Fast));
        rig.told("a refusal", says("the head does not answer"));
        rig.camera.head_fault(HeadFault::Lies);
        rig.grip.does(Hand::Do(HeadOrder::Home));
        rig.hold("to its end", RIGHT, pan_beyond(169.9));
        let end = Instant::now() + Duration::from_secs(2);
        while Instant::now() < end {
            rig.grip.does(Hand::Press(RIGHT, Pace::Fast));
            std::thread::sleep(Duration::from_millis(30));
        }
        rig.told("its end", says("goes no further"));
        rig.camera.head_fault(HeadFault::NeverStops);
        rig.hold("back", Axes { pan: -1.0, ..RIGHT }, |camera| camera.aim().unwrap().pan < 160.0);
        rig.told("it is told again", says("told again"));
        rig.told("it does not obey", says("does not stop"));
        rig.camera.head_fault(HeadFault::Slow);
        rig.grip.does(Hand::Press(RIGHT, Pace::Fast));
        rig.until("its own time-out, whatever it answers", |camera| !camera.is_turning());
    }
}
