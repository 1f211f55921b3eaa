//! Which cards can draw, by their address on the bus.

use std::sync::Arc;

use tracing::info;

use crate::GpuError;

/// Which card is to draw.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AdapterChoice {
    /// The one at this address on the bus, such as `0000:03:00.0`.
    At(String),
    /// The processor, through its Vulkan driver: for tests.
    Software,
}

impl AdapterChoice {
    /// How the software adapter is named in place of an address.
    pub const SOFTWARE: &'static str = "software";

    /// The choice as it is written.
    #[must_use]
    pub fn of(text: &str) -> Self {
        match text {
            Self::SOFTWARE => Self::Software,
            address => Self::At(address.to_owned()),
        }
    }

    fn text(&self) -> &str {
        match self {
            Self::At(address) => address,
            Self::Software => Self::SOFTWARE,
        }
    }

    fn is(&self, info: &wgpu::AdapterInfo) -> bool {
        let is_software = info.device_type == wgpu::DeviceType::Cpu;
        match self {
            Self::Software => is_software,
            // The driver may leave the bus' own number out, which is nearly always 0000.
            Self::At(address) => {
                let told = info.device_pci_bus_id.to_ascii_lowercase();
                !is_software && !told.is_empty() && address.to_ascii_lowercase().ends_with(&told)
            }
        }
    }
}

/// A card that is open to be drawn on.
#[derive(Debug, Clone)]
pub struct GpuAdapter {
    pub(crate) device: wgpu::Device,
    pub(crate) queue: wgpu::Queue,
    /// Whether the device tells how long its work took.
    pub(crate) has_clock: bool,
    name: String,
    driver: String,
}

fn instance() -> wgpu::Instance {
    let mut wanted = wgpu::InstanceDescriptor::new_without_display_handle();
    wanted.backends = wgpu::Backends::VULKAN;
    wanted.flags = wgpu::InstanceFlags::empty();
    wgpu::Instance::new(wanted)
}

/// Every device that there is, in words.
#[must_use]
pub fn adapters() -> Vec<String> {
    let found = pollster::block_on(instance().enumerate_adapters(wgpu::Backends::VULKAN));
    found.iter().map(|adapter| in_words(&adapter.get_info())).collect()
}

fn in_words(info: &wgpu::AdapterInfo) -> String {
    let address = match (info.device_type, info.device_pci_bus_id.as_str()) {
        (wgpu::DeviceType::Cpu, _) => AdapterChoice::SOFTWARE,
        (_, "") => "address unknown",
        (_, address) => address,
    };
    format!("{} ({address})", info.name)
}

impl GpuAdapter {
    /// Opens a card.
    ///
    /// # Errors
    /// There is no such device, or it cannot be opened.
    pub fn open(choice: &AdapterChoice) -> Result<Self, GpuError> {
        let instance = instance();
        let found = pollster::block_on(instance.enumerate_adapters(wgpu::Backends::VULKAN));
        let known: Vec<String> = found.iter().map(|one| in_words(&one.get_info())).collect();
        let adapter = found.into_iter().find(|one| choice.is(&one.get_info()));
        let adapter = adapter.ok_or_else(|| GpuError::NoDevice {
            address: choice.text().to_owned(),
            known: if known.is_empty() { "none".into() } else { known.join(", ") },
        })?;
        let info = adapter.get_info();
        info!("draws on {}, driver {} {}", info.name, info.driver, info.driver_info);
        let clock = wgpu::Features::TIMESTAMP_QUERY;
        let features = adapter.features() & clock;
        let limits = wgpu::Limits {
            max_storage_buffer_binding_size: adapter.limits().max_storage_buffer_binding_size,
            max_buffer_size: adapter.limits().max_buffer_size,
            ..wgpu::Limits::default()
        };
        let wanted = wgpu::DeviceDescriptor {
            label: None,
            required_features: features,
            required_limits: limits,
            experimental_features: wgpu::ExperimentalFeatures::disabled(),
            memory_hints: wgpu::MemoryHints::Performance,
            trace: wgpu::Trace::Off,
        };
        let opened = pollster::block_on(adapter.request_device(&wanted));
        let (device, queue) = opened.map_err(|error| GpuError::NotOpened(error.to_string()))?;
        let name = info.name;
        let driver = format!("{} {}", info.driver, info.driver_info);
        Ok(Self { device, queue, has_clock: features.contains(clock), name, driver })
    }

    /// Name of the device, as its driver tells it.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The driver and its release.
    #[must_use]
    pub fn driver(&self) -> &str {
        &self.driver
    }
}

/// What went wrong on a device since it was opened: a driver tells of it when it likes.
#[derive(Debug, Clone, Default)]
pub(crate) struct Trouble(Arc<std::sync::Mutex<Option<GpuError>>>);

impl Trouble {
    /// Listens to a device.
    pub(crate) fn of(device: &wgpu::Device) -> Self {
        let trouble = Self::default();
        let lost = trouble.clone();
        device.set_device_lost_callback(move |_, _| lost.note(GpuError::Lost));
        let error = trouble.clone();
        device.on_uncaptured_error(Arc::new(move |told: wgpu::Error| {
            tracing::warn!("{told}");
            error.note(match told {
                wgpu::Error::OutOfMemory { .. } => GpuError::OutOfMemory,
                _ => GpuError::Lost,
            });
        }));
        trouble
    }

    fn note(&self, error: GpuError) {
        let mut noted = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        noted.get_or_insert(error);
    }

    pub(crate) fn check(&self) -> Result<(), GpuError> {
        let noted = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        noted.clone().map_or(Ok(()), Err)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_card_that_is_not_there_is_told_with_those_that_are() {
        let choice = AdapterChoice::of("ffff:ff:1f.7");
        let error = GpuAdapter::open(&choice).unwrap_err().to_string();
        assert!(error.contains("ffff:ff:1f.7") && error.contains("there are:"), "{error}");
        assert_eq!(AdapterChoice::of("software"), AdapterChoice::Software);
    }
}
