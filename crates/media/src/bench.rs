//! The work on one stream: decoding its units, scaling what is to be seen, looking at it now and then.
//!
//! It is the same in a worker of this process and in a process of its own ([`crate::process`]): what it says goes to an [`Out`].

use crate::adjust::Adjuster;
use crate::fallback::FallbackDecoder;
use crate::glance::{glance, levels, light};
use crate::h264::{Decoded, H264Decoder};
use crate::h265::H265Decoder;
use crate::jpeg;
use crate::lane::DamageChoice;
use crate::order::OwnPicture;
use crate::picture::{ColourDescription, Condition};
use crate::scale::Scaler;
use crate::unroll::Unroller;
use crate::wanted::{MOST_PRINTS, Print, Wanted, keyframes_only};
use lattice_core::Mono;
use lattice_core::adjust::{Adjust, Setting, Toned, Tones};
use lattice_core::lattice::Aspect;
use lattice_core::motion;
use lattice_core::sight::Glance;
use lattice_core::video::VideoCodec;
use lattice_core::view::View;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, VecDeque};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::time::{Duration, Instant};

/// Pictures are looked at this often.
const GLANCE_EVERY: Duration = Duration::from_secs(1);

/// What is known of a unit beside its bytes.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
#[allow(clippy::struct_excessive_bools, reason = "independent observations, not one state")]
pub(crate) struct Head {
    pub number: u64,
    /// When its last packet arrived.
    pub received: Mono,
    pub clean_point: bool,
    /// Access units until pictures are right, for a clean point.
    pub recovery: u64,
    pub displayable: bool,
    pub colour: ColourDescription,
    pub new_parameters: bool,
    pub bipredictive: bool,
    pub keyframe: bool,
    /// By how many pictures display order may differ from coding order.
    pub reorder: Option<u8>,
    pub form: Form,
    /// It was decoded before, by a decoder that is gone, or kept while nobody looked: nothing is told of it.
    pub again: bool,
}

/// Which decoder a stream needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Form {
    pub codec: VideoCodec,
    /// Beyond progressive 8-bit 4:2:0: not for the usual decoder.
    pub unusual: bool,
}

/// What is done with pictures beside scaling them.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct Looks {
    pub choice: DamageChoice,
    pub hold: Duration,
    /// The brightness of every picture is wanted.
    pub light: bool,
    /// How the levels of every picture are spread is wanted.
    pub tones: bool,
    /// The levels of its places are wanted, for motion.
    pub levels: bool,
    /// The next clean picture is wanted, within this size.
    pub still: Option<(usize, usize)>,
}

/// Which picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum Canvas {
    /// The newest, for a print by its place among those that are wanted.
    Print(u8),
    /// The one that is kept.
    Still,
}

impl Canvas {
    /// Its place among all of them.
    pub fn place(self) -> usize {
        match self {
            Self::Still => 0,
            Self::Print(print) => 1 + usize::from(print),
        }
    }
}

/// Pictures that can be made of one.
pub(crate) const CANVASES: usize = 1 + MOST_PRINTS;

/// A picture without its pixels.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct Painted {
    pub number: u64,
    pub width: usize,
    pub height: usize,
    pub source: (usize, usize),
    pub condition: Condition,
    pub ready: Mono,
}

impl Painted {
    /// Bytes of its pixels; `None` where no memory has so many.
    pub fn bytes(&self) -> Option<usize> {
        self.width.checked_mul(self.height)?.checked_mul(3)
    }
}

/// What is said of a unit.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) enum Said {
    Decoded {
        number: u64,
        at: Mono,
        damaged: bool,
    },
    Picture(Canvas, Painted),
    Refused {
        number: u64,
    },
    Concealed {
        number: u64,
    },
    Glance(Glance),
    Tones(Box<Toned>),
    Light {
        number: u64,
        at: Mono,
        cells: Vec<u8>,
    },
    Levels {
        at: Mono,
        cells: Vec<u8>,
    },
    /// A picture had no room: it needs so many bytes.
    Short(Canvas, usize),
}

/// Where a bench's pictures and reports go.
pub(crate) trait Out {
    /// Room for a picture of so many bytes; `None` where there is none, which is said.
    fn canvas(&mut self, which: Canvas, bytes: usize) -> Option<&mut [u8]>;
    /// Something is known. After [`Said::Picture`] its canvas is done.
    fn say(&mut self, said: Said);
    /// The time.
    fn now(&self) -> Mono;
}

/// A unit to be decoded.
pub(crate) struct Work<'a> {
    pub head: &'a Head,
    pub data: &'a [u8],
    pub prints: &'a [Print],
    /// It is the last one that waits: its picture is the newest.
    pub newest: bool,
}

/// What a decoder did to itself on a unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Panicked;

/// The benches of all streams that one worker serves.
#[derive(Default)]
pub(crate) struct Benches(HashMap<u64, Bench>);

impl Benches {
    /// Does the work; a decoder that panics is thrown away, and the others go on.
    pub fn decode(&mut self, lane: u64, work: &Work<'_>, looks: &mut Looks, out: &mut dyn Out) -> Result<(), Panicked> {
        let bench = self.0.entry(lane).or_default();
        catch_unwind(AssertUnwindSafe(|| bench.decode(work, looks, out))).map_err(|_| {
            self.forget(lane);
            Panicked
        })
    }

    /// A stream is served here no more.
    pub fn forget(&mut self, lane: u64) {
        self.0.remove(&lane);
    }
}

#[derive(Default)]
struct Bench {
    decoder: Option<AnyDecoder>,
    hands: Hands,
    /// Units decoded of late whose pictures may still be to come.
    recent: VecDeque<Head>,
    order: Order,
    trust: Trust,
    /// Decoding began at a recovery point, and no keyframe has come since: the codec calls every picture of such a stream made
    /// up, also when nothing of it is. Its arrival tells then what is whole.
    no_keyframe: bool,
    /// When a picture was looked at last,
    glanced: Option<Mono>,
    /// and when for motion.
    levelled: Option<Mono>,
    /// Since when pictures are damaged.
    damaged_since: Option<Mono>,
}

/// The decoder of a stream, by its codec.
enum AnyDecoder {
    H264(H264Decoder),
    H265(Box<H265Decoder>),
    /// H.264 that the usual decoder does not take.
    Fallback(Box<FallbackDecoder>),
    /// Each picture stands by itself: nothing is kept.
    Jpeg,
}

impl AnyDecoder {
    fn new(form: Form) -> Option<Self> {
        Some(match form.codec {
            VideoCodec::H264 if form.unusual => Self::Fallback(Box::default()),
            VideoCodec::H264 => {
                Self::H264(H264Decoder::new().inspect_err(|error| tracing::error!(%error, "no decoder could be made")).ok()?)
            }
            VideoCodec::H265 => Self::H265(Box::default()),
            VideoCodec::Jpeg => Self::Jpeg,
        })
    }
}

/// Whether what the codec makes of whole units can be believed. A codec that had to make up parts of a
/// picture missed something that arrival could not tell (frames that were never sent, say), and what
/// follows is built upon it.
#[derive(Default, Clone, Copy)]
enum Trust {
    /// Nothing was made up.
    #[default]
    Full,
    /// Something was: not to be believed before the next clean point.
    Lost,
    /// A clean point came: to be believed from this access unit on.
    From(u64),
}

impl Trust {
    /// Takes the next unit that goes to the codec.
    const fn on_unit(&mut self, head: &Head) {
        if head.clean_point && matches!(self, Self::Lost) {
            *self = Self::From(head.number.saturating_add(head.recovery));
        }
    }

    /// Takes a picture that comes out; whether it can be believed.
    const fn on_picture(&mut self, number: u64, concealed: bool) -> bool {
        match *self {
            _ if concealed => *self = Self::Lost,
            Self::From(first) if number >= first => *self = Self::Full,
            _ => {}
        }
        matches!(self, Self::Full)
    }
}

/// Whether pictures may have to wait for display order. Most cameras send no B-frames but do not
/// say so; the codec then holds each picture back for one or two frames in vain.
#[derive(Default)]
enum Order {
    /// No unit yet.
    #[default]
    Unknown,
    /// Units without a B-frame so far.
    Straight(u32),
    /// A B-frame came.
    Reordered,
}

/// Units without a B-frame after which there will be none: more than any distance between anchors.
const STRAIGHT_AFTER: u32 = 16;

impl Order {
    /// Takes the next unit; whether pictures need not wait.
    const fn on_unit(&mut self, bipredictive: bool, told: Option<u8>) -> bool {
        *self = match *self {
            _ if bipredictive => Self::Reordered,
            Self::Reordered => Self::Reordered,
            Self::Unknown => Self::Straight(1),
            Self::Straight(n) => Self::Straight(n.saturating_add(1)),
        };
        // Some say that they reorder nothing, and do.
        matches!(self, Self::Straight(n) if *n >= STRAIGHT_AFTER || matches!(told, Some(0)))
    }
}

impl Bench {
    fn decode(&mut self, work: &Work<'_>, looks: &mut Looks, out: &mut dyn Out) {
        let Work { head, data, prints, newest } = *work;
        let Self { decoder, hands, recent, order, trust, no_keyframe, glanced, levelled, damaged_since } = self;
        if head.new_parameters {
            // Pictures held back belong to the old size; a fresh decoder shows the new one at once.
            *decoder = None;
        }
        if decoder.is_none() {
            if !head.clean_point {
                return;
            }
            *decoder = AnyDecoder::new(head.form);
            recent.clear();
            *order = Order::default();
            *trust = Trust::default();
            *no_keyframe = true;
        }
        *no_keyframe &= !head.keyframe;
        let Some(codec) = decoder.as_mut() else { return };
        if recent.len() >= 64 {
            recent.pop_front();
        }
        recent.push_back(*head);
        hands.keep(prints);
        let keyframes_only = keyframes_only(prints);
        let at_once = order.on_unit(head.bipredictive, head.reorder) || keyframes_only;
        let reorder = if keyframes_only { Some(0) } else { head.reorder };
        trust.on_unit(head);
        let mut painter = Painter {
            out,
            hands,
            recent,
            trust,
            no_keyframe: *no_keyframe,
            glanced,
            levelled,
            damaged_since,
            prints,
            looks,
            newest,
        };
        let refused = match codec {
            AnyDecoder::H264(codec) => decode_h264(codec, head.number, data, at_once, &mut painter),
            AnyDecoder::H265(codec) => painter.take(head, codec.decode(head.number, head.keyframe, reorder, data)),
            AnyDecoder::Fallback(codec) => painter.take(head, codec.decode(head.number, head.keyframe, reorder, data)),
            AnyDecoder::Jpeg => match jpeg::decode(data) {
                Some(picture) => {
                    painter.report(&Decoded { number: head.number, planes: picture.planes(), concealed: false });
                    false
                }
                None => true,
            },
        };
        // Of a unit that is damaged anyway its arrival has told.
        if refused && head.displayable && !head.again {
            out.say(Said::Refused { number: head.number });
        }
    }
}

/// Whether the codec refused the unit.
fn decode_h264(codec: &mut H264Decoder, number: u64, data: &[u8], at_once: bool, painter: &mut Painter<'_>) -> bool {
    let (mut refused, mut came) = (false, false);
    match codec.decode(number, data) {
        Ok(Some(decoded)) => {
            came = decoded.number == number;
            painter.report(&decoded);
        }
        Ok(None) => {}
        Err(_) => refused = true,
    }
    while at_once
        && !came
        && let Ok(Some(decoded)) = codec.flush()
    {
        painter.report(&decoded);
    }
    refused
}

/// What is needed to make a tile's picture of a decoded one.
struct Painter<'a> {
    out: &'a mut dyn Out,
    hands: &'a mut Hands,
    recent: &'a VecDeque<Head>,
    trust: &'a mut Trust,
    no_keyframe: bool,
    glanced: &'a mut Option<Mono>,
    levelled: &'a mut Option<Mono>,
    damaged_since: &'a mut Option<Mono>,
    prints: &'a [Print],
    looks: &'a mut Looks,
    newest: bool,
}

/// What makes the prints of a stream, each with what it keeps from picture to picture; the still's has no number of a print.
#[derive(Default)]
struct Hands(HashMap<Option<u64>, Hand>);

impl Hands {
    fn keep(&mut self, prints: &[Print]) {
        if self.0.len() > prints.len() {
            self.0.retain(|id, _| id.is_some_and(|id| prints.iter().any(|print| print.id == id)));
        }
    }
}

#[derive(Default)]
struct Hand {
    scaler: Scaler,
    unroller: Unroller,
    adjuster: Adjuster,
}

impl Painter<'_> {
    /// What a decoder made of a unit; true where it refused it.
    fn take<E: std::fmt::Display>(&mut self, head: &Head, decoded: Result<Vec<OwnPicture>, E>) -> bool {
        match decoded {
            Ok(pictures) => {
                for picture in &pictures {
                    self.report(&Decoded { number: picture.number, planes: picture.planes(), concealed: false });
                }
                false
            }
            Err(error) => {
                tracing::debug!(%error, number = head.number, "refused");
                true
            }
        }
    }

    fn report(&mut self, decoded: &Decoded<'_>) {
        let number = decoded.number;
        let known = self.recent.iter().find(|head| head.number == number);
        let (displayable, colour) = known.map_or_else(Default::default, |head| (head.displayable, head.colour));
        // Of a unit that is damaged anyway its arrival has told.
        let concealed = decoded.concealed && displayable && !self.no_keyframe;
        let damaged = !self.trust.on_picture(number, concealed) || !displayable;
        let now = self.out.now();
        if damaged {
            self.damaged_since.get_or_insert(now);
        } else {
            *self.damaged_since = None;
        }
        if known.is_some_and(|head| head.again) {
            return;
        }
        if concealed {
            self.out.say(Said::Concealed { number });
        }
        let held_long = self.damaged_since.is_some_and(|since| now.since(since) >= self.looks.hold);
        let shown = self.newest && (!damaged || held_long || self.looks.choice == DamageChoice::Show);
        let condition = if damaged { Condition::Damaged } else { Condition::Clean };
        let own = (colour, condition);
        let prints = if shown { self.prints } else { &[] };
        let painted: Vec<(Canvas, Painted)> = (0u8..)
            .zip(prints)
            .filter_map(|(n, print)| Some((Canvas::Print(n), self.paint(Canvas::Print(n), print, decoded, own)?)))
            .collect();
        let at = painted.last().map_or_else(|| self.out.now(), |(_, picture)| picture.ready);
        self.out.say(Said::Decoded { number, at, damaged });
        let still = if damaged { None } else { self.looks.still };
        if let Some((width, height)) = still {
            let aspect = Aspect::Fit;
            let room = Wanted { width, height, pixel_aspect: 1.0, step: (1, 1), aspect, enlarge: false, keyframes_only: false };
            // What the tiles show of colours and levels is in it too; what takes several pictures is not.
            let adjust = self.prints.first().map_or(Adjust::OFF, |print| print.adjust).with(Setting::Denoise, 0);
            let print = Print { adjust, ..Print::whole(room) };
            if let Some(still) = self.paint(Canvas::Still, &print, decoded, own) {
                self.looks.still = None;
                self.out.say(Said::Picture(Canvas::Still, Painted { ready: at, ..still }));
            }
        }
        if self.looks.light
            && !damaged
            && let Some(cells) = light(&decoded.planes)
        {
            self.out.say(Said::Light { number, at, cells: cells.to_vec() });
        }
        if !damaged && self.glanced.is_none_or(|before| at.since(before) >= GLANCE_EVERY) {
            *self.glanced = Some(at);
            if let Some(glance) = glance(&decoded.planes, colour, at) {
                self.out.say(Said::Glance(glance));
            }
        }
        self.tell_levels(decoded, damaged, at);
        for (canvas, picture) in painted {
            self.out.say(Said::Picture(canvas, picture));
        }
    }

    /// The levels of a picture's places, for motion, so often as that looks.
    fn tell_levels(&mut self, decoded: &Decoded<'_>, damaged: bool, at: Mono) {
        let due = self.levelled.is_none_or(|before| at.since(before) >= motion::EVERY);
        if self.looks.levels
            && !damaged
            && due
            && let Some(cells) = levels(&decoded.planes)
        {
            *self.levelled = Some(at);
            self.out.say(Said::Levels { at, cells });
        }
    }

    /// Makes a print in its canvas.
    fn paint(
        &mut self,
        which: Canvas,
        print: &Print,
        decoded: &Decoded<'_>,
        (colour, condition): (ColourDescription, Condition),
    ) -> Option<Painted> {
        let own = if which == Canvas::Still { None } else { Some(print.id) };
        let hand = self.hands.0.entry(own).or_default();
        let planes = match print.view {
            View::Flat(zoom) if !zoom.is_whole() => decoded.planes.part(zoom.part()),
            _ => decoded.planes,
        };
        let source = (planes.width, planes.height);
        let size = match print.view {
            View::Flat(_) => print.wanted.scaled(source),
            View::Window(..) | View::Strip(..) => print.wanted.filled(),
        };
        let canvas = self.out.canvas(which, size.0.checked_mul(size.1)?.checked_mul(3)?)?;
        let made = match print.view {
            View::Flat(_) => hand.scaler.scale(&planes, colour, size.0, size.1, canvas),
            View::Window(..) | View::Strip(..) => {
                hand.unroller.unroll(&planes, colour, &print.view, size, print.wanted.pixel_aspect, canvas)
            }
        };
        if !made {
            return None;
        }
        let before = (self.looks.tones && which == Canvas::Print(0)).then(|| Tones::of(canvas));
        let begun = before.is_some().then(Instant::now);
        hand.adjuster.adjust(&print.adjust, print.split, size.0, canvas);
        let toned = before.zip(begun).map(|(before, begun)| (before, begun.elapsed(), Tones::of(canvas)));
        if let Some((before, took, after)) = toned {
            self.out.say(Said::Tones(Box::new(Toned { before, after, took })));
        }
        let source = match print.view {
            View::Flat(_) => source,
            View::Window(..) | View::Strip(..) => {
                // As wide against its height as it stands on the screen.
                ((size.0 as f64 * print.wanted.pixel_aspect).round().max(1.0) as usize, size.1)
            }
        };
        Some(Painted { number: decoded.number, width: size.0, height: size.1, source, condition, ready: self.out.now() })
    }
}
