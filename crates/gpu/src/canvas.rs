//! Drawing one frame after the other on a card, and having the card verify them.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::time::Duration;

use yard_step_core::Frame;
use yard_step_scenes::{FrameSize, Scene};

use crate::adapter::{GpuAdapter, Trouble};
use crate::shaders::{shader_of, shader_of_memory};
use crate::{ENLARGED, GpuError};

/// Frames that are on their way at a time.
const SLOTS: usize = 3;
/// How long a frame may take: after that the card hangs, whatever its driver says.
const PATIENCE: Duration = Duration::from_secs(10);
/// Pixels to each side of a workgroup, as the shaders have it.
const TILE: u32 = 8;
/// Sides of a square of the raster path, pixels, as the shaders have it, and its layers.
const SQUARE: u32 = 4;
const LAYERS: u32 = 2;
/// Workgroups that go over a chunk of memory.
const SWEEPERS: u32 = 4_096;
/// Largest chunk of memory, bytes.
const CHUNK: u64 = 64 << 20;

/// What a frame is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FrameOrder {
    /// The scene; of a medley, the one whose turn it is.
    pub scene: Scene,
    /// Which frame of its pass.
    pub number: u64,
    /// Its size on a stand-in.
    pub size: FrameSize,
    /// How often every pixel is verified.
    pub rounds: u32,
    /// Whether a chunk of memory is turned over besides.
    pub turns_memory: bool,
}

/// What a card has counted in a frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Counts {
    /// Pixels that were not the same each time they were worked out.
    pub wrong_pixels: u32,
    /// Words of memory that were not what had been written.
    pub wrong_words: u32,
    /// How long the card worked, nanoseconds; none where it does not tell.
    pub nanoseconds: Option<u64>,
}

/// What the shaders are told of a frame, in their layout.
#[repr(C)]
#[derive(Debug, Clone, Copy, bytemuck::Pod, bytemuck::Zeroable)]
struct Params {
    width: u32,
    height: u32,
    number: i32,
    gust: u32,
    rounds: u32,
    zero: i32,
    salt: u32,
    words: u32,
}

/// Counts and times as they are read back.
const READ_BACK: u64 = 16 + 16;

/// What one frame on its way needs of its own.
struct Slot {
    params: wgpu::Buffer,
    memory_params: wgpu::Buffer,
    pixels: wgpu::Buffer,
    counts: wgpu::Buffer,
    times: Option<(wgpu::QuerySet, wgpu::Buffer)>,
    told: wgpu::Buffer,
    raster: wgpu::Texture,
    depth: wgpu::Texture,
    bound: wgpu::BindGroup,
    sides: (u32, u32),
    submitted: Option<wgpu::SubmissionIndex>,
}

struct Pipelines {
    draw: wgpu::ComputePipeline,
    verify: wgpu::ComputePipeline,
    raster: wgpu::RenderPipeline,
}

/// Memory that patterns are written to.
struct Chunk {
    words: wgpu::Buffer,
    count: u32,
    /// Salt of what stands in it; 0 before anything does.
    salt: u32,
}

/// A card that draws and verifies frames.
pub struct Canvas {
    card: GpuAdapter,
    trouble: Trouble,
    layout: wgpu::BindGroupLayout,
    pipeline_layout: wgpu::PipelineLayout,
    scenes: BTreeMap<&'static str, Pipelines>,
    sweep: wgpu::ComputePipeline,
    slots: Vec<Slot>,
    next: usize,
    chunks: Vec<Chunk>,
    next_chunk: usize,
}

impl Canvas {
    /// A canvas on a card, for frames of a size.
    ///
    /// # Errors
    /// The card has no memory for it, or is lost.
    pub fn new(card: GpuAdapter, size: FrameSize) -> Result<Self, GpuError> {
        let device = &card.device;
        let trouble = Trouble::of(device);
        let layout = bindings(device);
        let pipeline_layout = device.create_pipeline_layout(&wgpu::PipelineLayoutDescriptor {
            label: None,
            bind_group_layouts: &[Some(&layout)],
            immediate_size: 0,
        });
        let sweep =
            compute(device, &pipeline_layout, &module(device, &shader_of_memory()), "turn_over");
        let slots = (0..SLOTS).map(|_| Slot::new(&card, &layout, size)).collect();
        trouble.check()?;
        Ok(Self {
            card,
            trouble,
            layout,
            pipeline_layout,
            scenes: BTreeMap::new(),
            sweep,
            slots,
            next: 0,
            chunks: Vec::new(),
            next_chunk: 0,
        })
    }

    /// Takes memory for patterns, as much as there is up to so many bytes; how many there were.
    pub fn take_memory(&mut self, bytes: u64) -> u64 {
        let device = &self.card.device;
        let most = CHUNK.min(device.limits().max_storage_buffer_binding_size);
        let mut left = bytes;
        while left >= most {
            let scope = device.push_error_scope(wgpu::ErrorFilter::OutOfMemory);
            let words = device.create_buffer(&wgpu::BufferDescriptor {
                label: None,
                size: most,
                usage: wgpu::BufferUsages::STORAGE | wgpu::BufferUsages::COPY_DST,
                mapped_at_creation: false,
            });
            if pollster::block_on(scope.pop()).is_some() {
                break;
            }
            self.chunks.push(Chunk { words, count: (most / 4) as u32, salt: 0 });
            left -= most;
        }
        self.chunks.len() as u64 * most
    }

    /// Bytes of memory that patterns are written to.
    #[must_use]
    pub fn memory(&self) -> u64 {
        self.chunks.iter().map(|chunk| u64::from(chunk.count) * 4).sum()
    }

    /// How many frames may be on their way.
    #[must_use]
    pub const fn depth(&self) -> usize {
        SLOTS
    }

    /// Has the card draw and verify a frame. It is finished in the order in which it was begun.
    ///
    /// # Errors
    /// The device is lost.
    pub fn begin(&mut self, order: FrameOrder) -> Result<(), GpuError> {
        self.trouble.check()?;
        let name = order.scene.name();
        if !self.scenes.contains_key(name) {
            let pipelines = self.pipelines(order.scene)?;
            self.scenes.insert(name, pipelines);
        }
        let at = self.next;
        self.next = (self.next + 1) % SLOTS;
        let mut encoder = self.card.device.create_command_encoder(&Default::default());
        let slot = &self.slots[at];
        let Some(pipelines) = self.scenes.get(name) else { return Err(GpuError::Lost) };
        let params = Params {
            width: slot.sides.0,
            height: slot.sides.1,
            number: order.number as i32,
            gust: u32::from(order.scene.is_gust(order.number)),
            rounds: order.rounds,
            zero: 0,
            salt: 0,
            words: 0,
        };
        self.card.queue.write_buffer(&slot.params, 0, bytemuck::bytes_of(&params));
        encoder.clear_buffer(&slot.counts, 0, None);
        let times = slot.times.as_ref();
        if order.scene == Scene::Loom {
            rasterise(&mut encoder, slot, &pipelines.raster, times.map(|times| &times.0));
        } else {
            compute_pass(&mut encoder, &pipelines.draw, slot, times.map(|t| (&t.0, Some(0), None)));
        }
        let end = times.map(|times| (&times.0, None, Some(1)));
        compute_pass(&mut encoder, &pipelines.verify, slot, end);
        if order.turns_memory {
            self.turn_over(&mut encoder, at, params);
        }
        let slot = &mut self.slots[at];
        if let Some((queries, resolved)) = &slot.times {
            encoder.resolve_query_set(queries, 0..2, resolved, 0);
            encoder.copy_buffer_to_buffer(resolved, 0, &slot.told, 16, 16);
        }
        encoder.copy_buffer_to_buffer(&slot.counts, 0, &slot.told, 0, 16);
        slot.submitted = Some(self.card.queue.submit([encoder.finish()]));
        self.trouble.check()
    }

    /// Verifies and writes anew the next chunk of the memory, where there is any.
    fn turn_over(&mut self, encoder: &mut wgpu::CommandEncoder, at: usize, params: Params) {
        if self.chunks.is_empty() {
            return;
        }
        let place = self.next_chunk;
        self.next_chunk = (place + 1) % self.chunks.len();
        let (chunk, slot) = (&mut self.chunks[place], &self.slots[at]);
        chunk.salt = chunk.salt.wrapping_add(1).max(1);
        let params = Params { salt: chunk.salt, words: chunk.count, ..params };
        self.card.queue.write_buffer(&slot.memory_params, 0, bytemuck::bytes_of(&params));
        let buffers = [&slot.memory_params, &chunk.words, &slot.counts];
        let bound = bind(&self.card.device, &self.layout, buffers);
        let mut pass = encoder.begin_compute_pass(&Default::default());
        pass.set_pipeline(&self.sweep);
        pass.set_bind_group(0, &bound, &[]);
        pass.dispatch_workgroups(SWEEPERS, 1, 1);
    }

    /// Waits for the frame that was begun first of those on their way; what the card has counted in it.
    ///
    /// # Errors
    /// The device is lost, or does not finish it.
    pub fn finish(&mut self) -> Result<Counts, GpuError> {
        let at = self.oldest().ok_or(GpuError::Lost)?;
        let period = f64::from(self.card.queue.get_timestamp_period());
        let has_clock = self.card.has_clock;
        let submitted = self.slots[at].submitted.take();
        let bytes = self.read(&self.slots[at].told, submitted)?;
        let count = |place: usize| word_at(&bytes, place * 4);
        let time = |place: usize| {
            u64::from(word_at(&bytes, place)) | u64::from(word_at(&bytes, place + 4)) << 32
        };
        let ticks = time(24).saturating_sub(time(16));
        Ok(Counts {
            wrong_pixels: count(0),
            wrong_words: count(1),
            nanoseconds: has_clock.then_some((ticks as f64 * period) as u64).filter(|ns| *ns > 0),
        })
    }

    /// The slot of the frame that was begun first of those on their way.
    fn oldest(&self) -> Option<usize> {
        let order = (0..SLOTS).map(|behind| (self.next + behind) % SLOTS);
        order.into_iter().find(|at| self.slots[*at].submitted.is_some())
    }

    /// The slot of the frame that was finished last.
    fn finished(&self) -> &Slot {
        let next = self.oldest().unwrap_or(self.next);
        &self.slots[(next + SLOTS - 1) % SLOTS]
    }

    /// The frame that was finished last, whole. It must be asked for before another one is begun.
    ///
    /// # Errors
    /// The device is lost.
    pub fn frame(&self) -> Result<Frame, GpuError> {
        let slot = self.finished();
        let (width, height) = slot.sides;
        let size = u64::from(width) * u64::from(height) * 4;
        let copy = self.card.device.create_buffer(&wgpu::BufferDescriptor {
            label: None,
            size,
            usage: wgpu::BufferUsages::MAP_READ | wgpu::BufferUsages::COPY_DST,
            mapped_at_creation: false,
        });
        let mut encoder = self.card.device.create_command_encoder(&Default::default());
        encoder.copy_buffer_to_buffer(&slot.pixels, 0, &copy, 0, size);
        let submitted = self.card.queue.submit([encoder.finish()]);
        let bytes = self.read(&copy, Some(submitted))?;
        let mut frame = Frame::black(width as usize, height as usize);
        for (pixel, bytes) in frame.pixels.iter_mut().zip(bytes.chunks_exact(4)) {
            *pixel = word_at(bytes, 0);
        }
        Ok(frame)
    }

    /// Turns one bit over in the frame that is drawn next, before it is verified: for tests of the checks.
    ///
    /// # Errors
    /// The device is lost.
    pub fn spoil(&mut self, pixel: u32, bit: u32) -> Result<(), GpuError> {
        let slot = self.finished();
        let frame = self.frame()?;
        let value = frame.pixels.get(pixel as usize).copied().unwrap_or_default() ^ 1 << bit;
        self.card.queue.write_buffer(&slot.pixels, u64::from(pixel) * 4, &value.to_le_bytes());
        Ok(())
    }

    /// Verifies the frame that was finished last once more; wrong pixels.
    ///
    /// # Errors
    /// The device is lost.
    pub fn verify_again(&mut self, scene: Scene) -> Result<u32, GpuError> {
        let slot = self.finished();
        let Some(pipelines) = self.scenes.get(scene.name()) else { return Err(GpuError::Lost) };
        let mut encoder = self.card.device.create_command_encoder(&Default::default());
        encoder.clear_buffer(&slot.counts, 0, None);
        compute_pass(&mut encoder, &pipelines.verify, slot, None);
        encoder.copy_buffer_to_buffer(&slot.counts, 0, &slot.told, 0, 16);
        let submitted = self.card.queue.submit([encoder.finish()]);
        let bytes = self.read(&slot.told, Some(submitted))?;
        Ok(word_at(&bytes, 0))
    }

    /// Turns one bit over in the memory that patterns are written to: for tests of the checks.
    pub fn spoil_memory(&mut self, word: u32) {
        let Some(chunk) = self.chunks.first() else { return };
        let at = u64::from(word.min(chunk.count - 1)) * 4;
        // Whatever stands there, this is something else.
        let mut encoder = self.card.device.create_command_encoder(&Default::default());
        encoder.clear_buffer(&chunk.words, at, Some(4));
        self.card.queue.submit([encoder.finish()]);
    }

    fn read(
        &self,
        buffer: &wgpu::Buffer,
        submitted: Option<wgpu::SubmissionIndex>,
    ) -> Result<Vec<u8>, GpuError> {
        buffer.map_async(wgpu::MapMode::Read, .., |_| ());
        let wait = wgpu::PollType::Wait { submission_index: submitted, timeout: Some(PATIENCE) };
        match self.card.device.poll(wait) {
            Ok(_) => {}
            Err(wgpu::PollError::Timeout) => {
                return Err(GpuError::Hung { seconds: PATIENCE.as_secs() });
            }
            Err(_) => return Err(GpuError::Lost),
        }
        self.trouble.check()?;
        let bytes = buffer.get_mapped_range(..).map_err(|_| GpuError::Lost)?.to_vec();
        buffer.unmap();
        Ok(bytes)
    }

    fn pipelines(&self, scene: Scene) -> Result<Pipelines, GpuError> {
        let device = &self.card.device;
        let text = shader_of(scene).ok_or(GpuError::Lost)?;
        let module = module(device, &text);
        let made = Pipelines {
            draw: compute(device, &self.pipeline_layout, &module, "draw"),
            verify: compute(device, &self.pipeline_layout, &module, "verify"),
            raster: raster(device, &self.pipeline_layout, &module),
        };
        self.trouble.check()?;
        Ok(made)
    }
}

impl Slot {
    fn new(card: &GpuAdapter, layout: &wgpu::BindGroupLayout, size: FrameSize) -> Self {
        let device = &card.device;
        let sides = ((size.width * ENLARGED) as u32, (size.height * ENLARGED) as u32);
        let buffer = |size: u64, usage: wgpu::BufferUsages| {
            device.create_buffer(&wgpu::BufferDescriptor {
                label: None,
                size,
                usage,
                mapped_at_creation: false,
            })
        };
        let copied = wgpu::BufferUsages::COPY_DST | wgpu::BufferUsages::COPY_SRC;
        let uniform = wgpu::BufferUsages::UNIFORM | wgpu::BufferUsages::COPY_DST;
        let params = buffer(size_of::<Params>() as u64, uniform);
        let memory_params = buffer(size_of::<Params>() as u64, uniform);
        let area = u64::from(sides.0) * u64::from(sides.1);
        let pixels = buffer(area * 4, wgpu::BufferUsages::STORAGE | copied);
        let counts = buffer(16, wgpu::BufferUsages::STORAGE | copied);
        let times = card.has_clock.then(|| {
            let queries = device.create_query_set(&wgpu::QuerySetDescriptor {
                label: None,
                ty: wgpu::QueryType::Timestamp,
                count: 2,
            });
            let resolved =
                buffer(16, wgpu::BufferUsages::QUERY_RESOLVE | wgpu::BufferUsages::COPY_SRC);
            (queries, resolved)
        });
        let told = buffer(READ_BACK, wgpu::BufferUsages::MAP_READ | wgpu::BufferUsages::COPY_DST);
        let texture = |format, usage| {
            device.create_texture(&wgpu::TextureDescriptor {
                label: None,
                size: wgpu::Extent3d { width: sides.0, height: sides.1, depth_or_array_layers: 1 },
                mip_level_count: 1,
                sample_count: 1,
                dimension: wgpu::TextureDimension::D2,
                format,
                usage,
                view_formats: &[],
            })
        };
        let attachment = wgpu::TextureUsages::RENDER_ATTACHMENT;
        let raster =
            texture(wgpu::TextureFormat::R32Uint, attachment | wgpu::TextureUsages::COPY_SRC);
        let depth = texture(wgpu::TextureFormat::Depth32Float, attachment);
        let bound = bind(device, layout, [&params, &pixels, &counts]);
        Self {
            params,
            memory_params,
            pixels,
            counts,
            times,
            told,
            raster,
            depth,
            bound,
            sides,
            submitted: None,
        }
    }
}

fn word_at(bytes: &[u8], place: usize) -> u32 {
    let four = bytes.get(place..place + 4).and_then(|four| four.try_into().ok());
    four.map_or(0, u32::from_le_bytes)
}

fn module(device: &wgpu::Device, text: &str) -> wgpu::ShaderModule {
    device.create_shader_module(wgpu::ShaderModuleDescriptor {
        label: None,
        source: wgpu::ShaderSource::Wgsl(Cow::Borrowed(text)),
    })
}

fn bindings(device: &wgpu::Device) -> wgpu::BindGroupLayout {
    let stages = wgpu::ShaderStages::COMPUTE | wgpu::ShaderStages::VERTEX_FRAGMENT;
    let entry = |binding, ty, visibility| wgpu::BindGroupLayoutEntry {
        binding,
        visibility,
        ty: wgpu::BindingType::Buffer { ty, has_dynamic_offset: false, min_binding_size: None },
        count: None,
    };
    let storage = wgpu::BufferBindingType::Storage { read_only: false };
    device.create_bind_group_layout(&wgpu::BindGroupLayoutDescriptor {
        label: None,
        entries: &[
            entry(0, wgpu::BufferBindingType::Uniform, stages),
            entry(1, storage, wgpu::ShaderStages::COMPUTE),
            entry(2, storage, wgpu::ShaderStages::COMPUTE),
        ],
    })
}

fn bind(
    device: &wgpu::Device,
    layout: &wgpu::BindGroupLayout,
    buffers: [&wgpu::Buffer; 3],
) -> wgpu::BindGroup {
    let entries: Vec<_> = buffers
        .iter()
        .zip(0..)
        .map(|(buffer, binding)| wgpu::BindGroupEntry {
            binding,
            resource: buffer.as_entire_binding(),
        })
        .collect();
    device.create_bind_group(&wgpu::BindGroupDescriptor { label: None, layout, entries: &entries })
}

fn compute(
    device: &wgpu::Device,
    layout: &wgpu::PipelineLayout,
    module: &wgpu::ShaderModule,
    entry: &str,
) -> wgpu::ComputePipeline {
    device.create_compute_pipeline(&wgpu::ComputePipelineDescriptor {
        label: None,
        layout: Some(layout),
        module,
        entry_point: Some(entry),
        compilation_options: Default::default(),
        cache: None,
    })
}

fn raster(
    device: &wgpu::Device,
    layout: &wgpu::PipelineLayout,
    module: &wgpu::ShaderModule,
) -> wgpu::RenderPipeline {
    device.create_render_pipeline(&wgpu::RenderPipelineDescriptor {
        label: None,
        layout: Some(layout),
        vertex: wgpu::VertexState {
            module,
            entry_point: Some("corner"),
            compilation_options: Default::default(),
            buffers: &[],
        },
        primitive: wgpu::PrimitiveState::default(),
        depth_stencil: Some(wgpu::DepthStencilState {
            format: wgpu::TextureFormat::Depth32Float,
            depth_write_enabled: Some(true),
            depth_compare: Some(wgpu::CompareFunction::Less),
            stencil: wgpu::StencilState::default(),
            bias: wgpu::DepthBiasState::default(),
        }),
        multisample: wgpu::MultisampleState::default(),
        fragment: Some(wgpu::FragmentState {
            module,
            entry_point: Some("shade"),
            compilation_options: Default::default(),
            targets: &[Some(wgpu::ColorTargetState {
                format: wgpu::TextureFormat::R32Uint,
                blend: None,
                write_mask: wgpu::ColorWrites::ALL,
            })],
        }),
        multiview_mask: None,
        cache: None,
    })
}

/// Which queries tell when a pass began and ended.
type Timed<'a> = (&'a wgpu::QuerySet, Option<u32>, Option<u32>);

fn compute_pass(
    encoder: &mut wgpu::CommandEncoder,
    pipeline: &wgpu::ComputePipeline,
    slot: &Slot,
    timed: Option<Timed<'_>>,
) {
    let timestamp_writes = timed.map(|(query_set, begin, end)| wgpu::ComputePassTimestampWrites {
        query_set,
        beginning_of_pass_write_index: begin,
        end_of_pass_write_index: end,
    });
    let mut pass =
        encoder.begin_compute_pass(&wgpu::ComputePassDescriptor { label: None, timestamp_writes });
    pass.set_pipeline(pipeline);
    pass.set_bind_group(0, &slot.bound, &[]);
    pass.dispatch_workgroups(slot.sides.0.div_ceil(TILE), slot.sides.1.div_ceil(TILE), 1);
}

/// Draws the frame by the raster path and copies it to where it is verified.
fn rasterise(
    encoder: &mut wgpu::CommandEncoder,
    slot: &Slot,
    pipeline: &wgpu::RenderPipeline,
    begin: Option<&wgpu::QuerySet>,
) {
    let (colour, depth) =
        (slot.raster.create_view(&Default::default()), slot.depth.create_view(&Default::default()));
    {
        let mut pass = encoder.begin_render_pass(&wgpu::RenderPassDescriptor {
            label: None,
            color_attachments: &[Some(wgpu::RenderPassColorAttachment {
                view: &colour,
                depth_slice: None,
                resolve_target: None,
                ops: wgpu::Operations {
                    load: wgpu::LoadOp::Clear(wgpu::Color::BLACK),
                    store: wgpu::StoreOp::Store,
                },
            })],
            depth_stencil_attachment: Some(wgpu::RenderPassDepthStencilAttachment {
                view: &depth,
                depth_ops: Some(wgpu::Operations {
                    load: wgpu::LoadOp::Clear(1.0),
                    store: wgpu::StoreOp::Discard,
                }),
                stencil_ops: None,
            }),
            timestamp_writes: begin.map(|query_set| wgpu::RenderPassTimestampWrites {
                query_set,
                beginning_of_pass_write_index: Some(0),
                end_of_pass_write_index: None,
            }),
            occlusion_query_set: None,
            multiview_mask: None,
        });
        pass.set_pipeline(pipeline);
        pass.set_bind_group(0, &slot.bound, &[]);
        let squares = slot.sides.0.div_ceil(SQUARE) * slot.sides.1.div_ceil(SQUARE);
        pass.draw(0..squares * 6 * LAYERS, 0..1);
    }
    let size =
        wgpu::Extent3d { width: slot.sides.0, height: slot.sides.1, depth_or_array_layers: 1 };
    let rows = wgpu::TexelCopyBufferLayout {
        offset: 0,
        bytes_per_row: Some(slot.sides.0 * 4),
        rows_per_image: None,
    };
    encoder.copy_texture_to_buffer(
        slot.raster.as_image_copy(),
        wgpu::TexelCopyBufferInfo { buffer: &slot.pixels, layout: rows },
        size,
    );
}
