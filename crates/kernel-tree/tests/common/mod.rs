//! A mounted card and its keeper.
#![allow(dead_code)]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use kernel_tree::{Device, Layout, Mounted, mount};
use tempfile::TempDir;
use yard_step_card::keeper::{Keeper, KeeperPlaces, KeptAddress, KeptCard, Peers, Stop};
use yard_step_card::{CardAddress, CardError, Family, connect};

pub const CARD: &str = "0000:03:00.0";
/// Far longer than anything here takes.
pub const PATIENCE: Duration = Duration::from_secs(60);
pub const LONG: Duration = Duration::from_secs(3_600);

/// A mounted card and, where one was started, its keeper.
pub struct Place {
    _tree: Mounted,
    pub dir: TempDir,
    keeper: Option<(Stop, JoinHandle<bool>)>,
    told: Arc<Mutex<Vec<String>>>,
    pub factory: String,
}

impl Place {
    pub fn new() -> Self {
        Self::of("standin:tarn-310#7", Layout::Offset)
    }

    pub fn of(card: &str, layout: Layout) -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("tree")).unwrap();
        let card: CardAddress = card.parse().unwrap();
        // One that takes what it is asked at the first time.
        let card = card.of_family("steady", Family::from_toml("not_taken = 0.0\n").unwrap());
        let device = Device::new(connect(&card).unwrap(), layout).unwrap();
        let tree = mount(vec![device], &dir.path().join("tree")).unwrap();
        let mut place =
            Self { _tree: tree, dir, keeper: None, told: Arc::default(), factory: String::new() };
        place.factory = place.state();
        place
    }

    pub fn file(&self, name: &str) -> PathBuf {
        self.dir.path().join("tree/class/drm/card0/device").join(name)
    }

    /// All that can be set, byte for byte.
    pub fn state(&self) -> String {
        let files = [
            "pp_od_clk_voltage",
            "power_dpm_force_performance_level",
            "hwmon/hwmon0/power1_cap",
            "gpu_od/fan_ctrl/fan_curve",
        ];
        files.map(|name| fs::read_to_string(self.file(name)).unwrap_or_default()).concat()
    }

    pub fn is_at_factory(&self) -> bool {
        self.state() == self.factory
    }

    /// Where a keeper finds the card in a run of the machine.
    pub fn places(&self, boot: &str) -> KeeperPlaces {
        KeeperPlaces {
            sysfs: self.dir.path().join("tree"),
            records: self.dir.path().join("records"),
            boot: boot.to_owned(),
        }
    }

    /// The keeper's record of the card.
    pub fn record(&self) -> PathBuf {
        json_in(&self.dir.path().join("records"))
    }

    pub fn keeper_in(&self, boot: &str) -> Keeper {
        let places = self.places(boot);
        let told = Arc::clone(&self.told);
        let peers = Peers::of(None, None).unwrap();
        Keeper::new(&places, peers, move |text| told.lock().unwrap().push(text.to_owned())).unwrap()
    }

    /// Starts a keeper in a run of the machine.
    pub fn start(&mut self, boot: &str) {
        let keeper = self.keeper_in(boot);
        keeper.start_cards(LONG);
        let stop = keeper.stop();
        let listener = Keeper::listen(&self.dir.path().join("keeper.sock")).unwrap();
        let thread = thread::spawn(move || keeper.serve(&listener).unwrap());
        self.keeper = Some((stop, thread));
    }

    /// Has the keeper stop in order; whether all is back.
    pub fn stop(&mut self) -> bool {
        let (stop, thread) = self.keeper.take().unwrap();
        stop.now();
        thread.join().unwrap()
    }

    pub fn open(&self, controls: bool) -> Result<KeptCard, CardError> {
        KeptCard::open(&self.address(), controls)
    }

    pub fn address(&self) -> KeptAddress {
        KeptAddress {
            sysfs: self.dir.path().join("tree"),
            keeper: self.dir.path().join("keeper.sock"),
            ..KeptAddress::of(CARD)
        }
    }

    pub fn told(&self, what: &str) -> bool {
        self.told.lock().unwrap().iter().any(|told| told.contains(what))
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        if self.keeper.is_some() {
            self.stop();
        }
    }
}

/// The only document in a directory.
pub fn json_in(directory: &Path) -> PathBuf {
    let files = fs::read_dir(directory).unwrap().map(|entry| entry.unwrap().path());
    let mut documents = files.filter(|path| path.extension().is_some_and(|end| end == "json"));
    documents.next().unwrap()
}

pub fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let began = Instant::now();
    while !is_so() {
        assert!(began.elapsed() < PATIENCE, "never came to be: {what}");
        thread::sleep(Duration::from_millis(5));
    }
}
