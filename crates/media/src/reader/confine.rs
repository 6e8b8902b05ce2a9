//! The limits that a program which decodes what others wrote sets itself before it looks at it.
//!
//! Memory, time, files and the length of what is written by `setrlimit`; on Linux no connections and no other programs by seccomp,
//! and writing into one folder only by Landlock, where the kernel has it. It ends with the program that started it.

use std::io::Error;
use std::path::Path;
use std::time::Duration;

/// What a file of a length may take.
pub(super) struct Limits {
    /// Bytes of memory that is written to.
    pub memory: u64,
    /// Seconds of computing, and as many minutes in all.
    pub seconds: u64,
}

impl Limits {
    /// Photographs hold at least a 160th of what they take while they are decoded (JPEG XL needs most); small ones may be drawn.
    pub(super) fn of(length: u64) -> Self {
        Self { memory: (900 << 20) + 160 * length, seconds: 10 + length / (250 << 10) }
    }
}

/// Said when it takes too long in all.
pub(super) const TOO_LONG: &str = "it takes too long";
/// The signal for too much computing.
pub(super) const TIME_SIGNAL: i32 = 24;
/// A pyramid of the largest picture: 400 megapixels of 16 bits.
const LONGEST_FILE: u64 = 3_400_000_000;
const OPEN_FILES: u64 = 64;

/// Threads that one file is decoded by: their stacks are memory too, and several files are read at once.
pub(super) fn threads() -> usize {
    std::thread::available_parallelism().map_or(2, |n| n.get().min(4))
}

/// Confines this program to reading, and to writing into a folder.
///
/// # Errors
/// When a limit cannot be set.
pub(super) fn confine(folder: &Path, length: u64) -> Result<(), Error> {
    let limits = Limits::of(length);
    bound(&limits)?;
    #[cfg(target_os = "linux")]
    linux::confine(folder)?;
    #[cfg(not(target_os = "linux"))]
    let _ = folder;
    std::thread::Builder::new().stack_size(64 << 10).spawn(move || {
        std::thread::sleep(Duration::from_secs(60 * limits.seconds));
        eprintln!("{TOO_LONG}");
        std::process::abort();
    })?;
    Ok(())
}

/// Memory that a program which decodes or encodes clips may take.
const PROGRAM_MEMORY: u64 = 3 << 30;

/// Limits this program before it becomes another one: no connections, so much memory, and it ends with the one that started it.
///
/// # Errors
/// When a limit cannot be set.
pub(super) fn confine_program() -> Result<(), Error> {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    for (resource, most) in [(Resource::Data, PROGRAM_MEMORY), (Resource::Core, 0)] {
        let most = getrlimit(resource).maximum.map_or(most, |given| given.min(most));
        setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) })?;
    }
    #[cfg(target_os = "linux")]
    linux::confine_program()?;
    Ok(())
}

fn bound(limits: &Limits) -> Result<(), Error> {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let bounds = [
        (Resource::Data, limits.memory),
        (Resource::Cpu, limits.seconds),
        (Resource::Nofile, OPEN_FILES),
        (Resource::Fsize, LONGEST_FILE),
        (Resource::Core, 0),
    ];
    for (resource, most) in bounds {
        // Never above what this program was given.
        let given = getrlimit(resource).maximum;
        let most = given.map_or(most, |given| given.min(most));
        // The signal of the softer limit of time can be told from being killed.
        let hard = if matches!(resource, Resource::Cpu) { most + 1 } else { most };
        let hard = given.map_or(hard, |given| given.min(hard));
        setrlimit(resource, Rlimit { current: Some(most), maximum: Some(hard) })?;
    }
    Ok(())
}

#[cfg(target_os = "linux")]
mod linux {
    use landlock::{ABI, AccessFs, PathBeneath, PathFd, Ruleset, RulesetAttr, RulesetCreatedAttr};
    use rustix::process::{Signal, set_parent_process_death_signal};
    use seccompiler::{BpfProgram, SeccompAction, SeccompFilter, TargetArch};
    use std::io::Error;
    use std::path::Path;

    pub(super) fn confine(folder: &Path) -> Result<(), Error> {
        set_parent_process_death_signal(Some(Signal::KILL))?;
        // Kernels without it let the folder be; the rest holds.
        let write = AccessFs::from_write(ABI::V3);
        let bound = || -> Result<(), Box<dyn std::error::Error + Send + Sync>> {
            let beneath = PathBeneath::new(PathFd::new(folder)?, write);
            Ruleset::default().handle_access(write)?.create()?.add_rule(beneath)?.restrict_self()?;
            Ok(())
        };
        bound().map_err(Error::other)?;
        refuse()
    }

    /// Ends with the one that started it, and opens no connections.
    pub(super) fn confine_program() -> Result<(), Error> {
        set_parent_process_death_signal(Some(Signal::KILL))?;
        refusing(&[
            libc::SYS_socket,
            libc::SYS_connect,
            libc::SYS_bind,
            libc::SYS_ptrace,
            libc::SYS_mount,
            libc::SYS_bpf,
        ])
    }

    /// Refuses connections, other programs, and looking into those that run.
    fn refuse() -> Result<(), Error> {
        let refused = [
            libc::SYS_socket,
            libc::SYS_socketpair,
            libc::SYS_connect,
            libc::SYS_bind,
            libc::SYS_execve,
            libc::SYS_execveat,
            libc::SYS_ptrace,
            libc::SYS_process_vm_readv,
            libc::SYS_process_vm_writev,
            libc::SYS_kill,
            libc::SYS_pidfd_open,
            libc::SYS_mount,
            libc::SYS_bpf,
            libc::SYS_io_uring_setup,
            libc::SYS_keyctl,
        ];
        refusing(&refused)
    }

    fn refusing(refused: &[libc::c_long]) -> Result<(), Error> {
        let Ok(arch) = TargetArch::try_from(std::env::consts::ARCH) else { return Ok(()) };
        let rules = refused.iter().map(|call| (*call, Vec::new())).collect();
        let refuse = SeccompAction::Errno(libc::EPERM as u32);
        let filter = SeccompFilter::new(rules, SeccompAction::Allow, refuse, arch).map_err(Error::other)?;
        let program: BpfProgram = filter.try_into().map_err(Error::other)?;
        seccompiler::apply_filter(&program).map_err(Error::other)
    }
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use std::fs::File;
    use std::os::unix::process::ExitStatusExt;
    use std::process::{Command, Stdio};

    /// Names the folder, and what the confined child does.
    const FOLDER: &str = "EVANU_TEST_CONFINED";
    const ACT: &str = "EVANU_TEST_CONFINED_ACT";

    /// The confined child; a status of its own tells that it was let.
    #[test]
    fn confined() {
        let Some(folder) = std::env::var_os(FOLDER) else { return };
        let folder = Path::new(&folder);
        let act = std::env::var(ACT).unwrap();
        let one_second = Limits { seconds: 1, ..Limits::of(0) };
        confine(folder, 0).unwrap();
        bound(&one_second).unwrap();
        let let_to = match act.as_str() {
            "read" => File::open("/proc/self/exe").is_ok(),
            "write inside" => std::fs::write(folder.join("inside"), "x").is_ok(),
            "write outside" => std::fs::write(folder.with_extension("outside"), "x").is_ok(),
            "remove outside" => std::fs::remove_file(folder.with_extension("kept")).is_ok(),
            "connect" => match std::net::TcpStream::connect("127.0.0.1:9") {
                Ok(_) => true,
                Err(e) => e.kind() != std::io::ErrorKind::PermissionDenied,
            },
            "listen" => std::net::UdpSocket::bind("127.0.0.1:0").is_ok(),
            "run" => Command::new("true").status().is_ok(),
            "little memory" => Vec::<u8>::new().try_reserve(600 << 20).is_ok(),
            "much memory" => Vec::<u8>::new().try_reserve(1200 << 20).is_ok(),
            "open many" => (0..100).map(|_| File::open("/dev/null")).collect::<Result<Vec<_>, _>>().is_ok(),
            "compute" => loop {
                std::hint::spin_loop();
            },
            _ => unreachable!(),
        };
        std::process::exit(if let_to { 10 } else { 11 });
    }

    #[test]
    fn a_confined_program_reads_and_writes_into_its_folder_and_nothing_else() {
        let base = tempfile::tempdir().unwrap();
        let folder = base.path().join("into");
        std::fs::create_dir(&folder).unwrap();
        std::fs::write(folder.with_extension("kept"), "x").unwrap();
        let does = |act: &str| {
            Command::new(std::env::current_exe().unwrap())
                .args(["reader::confine::tests::confined", "--exact", "--nocapture"])
                .envs([(FOLDER, folder.as_os_str()), (ACT, act.as_ref())])
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .status()
                .unwrap()
        };
        for act in ["read", "write inside", "little memory"] {
            assert_eq!(does(act).code(), Some(10), "{act} is refused");
        }
        use landlock::{ABI, AccessFs, CompatLevel, Compatible, Ruleset, RulesetAttr};
        let strictly = Ruleset::default().set_compatibility(CompatLevel::HardRequirement);
        // Kernels without Landlock let it write elsewhere, as docs/security.md says.
        let beyond: &[&str] = match strictly.handle_access(AccessFs::from_write(ABI::V3)) {
            Ok(_) => &["write outside", "remove outside"],
            Err(_) => &[],
        };
        for act in beyond {
            assert_eq!(does(act).code(), Some(11), "{act} is let");
        }
        for act in ["connect", "listen", "run", "much memory", "open many"] {
            assert_eq!(does(act).code(), Some(11), "{act} is let");
        }
        assert_eq!(does("compute").signal(), Some(TIME_SIGNAL));
    }
}
