//! The process in the background: keeps apps running, and does what clients ask.

use crate::app::{LiveApp, Wanted, has_processes};
use crate::host::Host;
use crate::place::Yard;
use crate::protocol::{Answer, Asked, Fault, Request, VERSION};
use crate::state::ReleaseKind;
use cancel::Cancel;
use model::{PathFacts, Result};
use rustix::fs::{FlockOperation, flock};
use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, Write};
use std::os::fd::AsRawFd;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

/// How long a client may take to read what it is sent.
const PATIENCE: Duration = Duration::from_secs(2);
/// How often it is looked whether the yard is to end.
const GLANCE: Duration = Duration::from_millis(50);

struct Serving {
    yard: Yard,
    host: Arc<Host>,
    apps: Mutex<BTreeMap<String, Arc<LiveApp>>>,
    cancel: Cancel,
}

/// Runs the yard until it is asked to end, or `cancel` is set. False when another process runs it already.
pub fn serve(yard: &Yard, host: Host, cancel: &Cancel) -> Result<bool> {
    let lock = File::create(yard.lock()).facts(&yard.lock())?;
    if flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
        return Ok(false);
    }
    let serving = Arc::new(Serving {
        yard: yard.clone(),
        host: Arc::new(host),
        apps: Mutex::default(),
        cancel: cancel.clone(),
    });
    for name in yard.apps()? {
        let app = Arc::new(LiveApp::open(&name, yard, &serving.host)?);
        serving.apps().insert(name, Arc::clone(&app));
        // One that cannot be started shows in its events and in the status.
        let cancel = cancel.clone();
        std::thread::spawn(move || app.resume(&cancel));
    }
    let listener = listen(yard)?;
    listener.set_nonblocking(true)?;
    while !cancel.is_cancelled() {
        match listener.accept() {
            Ok((stream, _)) => {
                let serving = Arc::clone(&serving);
                // Who goes away before the answer does not want it.
                std::thread::spawn(move || drop(serving.answer(&stream)));
            }
            Err(_) => {
                cancel.wait(GLANCE);
            }
        }
    }
    // No more requests can arrive.
    let _ = fs::remove_file(yard.socket());
    serving.stop();
    Ok(true)
}

/// The socket, under a short path: the longest that an address may have is 108 bytes (unix(7)).
pub(crate) fn through<T>(yard: &Yard, with: impl FnOnce(PathBuf) -> io::Result<T>) -> io::Result<T> {
    let folder = File::open(yard.folder())?;
    let name = yard.socket().file_name().unwrap_or_default().to_owned();
    with(PathBuf::from(format!("/proc/self/fd/{}", folder.as_raw_fd())).join(name))
}

fn listen(yard: &Yard) -> Result<UnixListener> {
    // A leftover one is stale: this process has the lock.
    let _ = fs::remove_file(yard.socket());
    through(yard, UnixListener::bind).facts(&yard.socket())
}

impl Serving {
    fn apps(&self) -> MutexGuard<'_, BTreeMap<String, Arc<LiveApp>>> {
        self.apps.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Ends all apps, at once.
    fn stop(&self) {
        let apps: Vec<Arc<LiveApp>> = self.apps().values().cloned().collect();
        std::thread::scope(|scope| {
            for app in &apps {
                scope.spawn(|| app.stop());
            }
        });
    }

    fn answer(&self, stream: &UnixStream) -> io::Result<()> {
        stream.set_nonblocking(false)?;
        stream.set_write_timeout(Some(PATIENCE))?;
        let mut line = String::new();
        BufReader::new(stream).read_line(&mut line)?;
        let writer = Arc::new(Mutex::new(stream.try_clone()?));
        let last = match serde_json::from_str::<Asked>(&line) {
            Ok(Asked { version: VERSION, request }) => {
                self.done(request, &writer).unwrap_or_else(|fault| Answer::Failed { fault })
            }
            _ => Answer::Failed { fault: Fault::OtherVersion { yard: VERSION } },
        };
        send(&writer, &last)
    }

    fn done(&self, request: Request, writer: &Arc<Mutex<UnixStream>>) -> Result<Answer, Fault> {
        match request {
            Request::Release { app, image, label, who, port, way, settings: more } => {
                let opened = workshop::inspect::open_index(&self.host.store, &label, image)?;
                if !has_processes(&opened) {
                    return Err(Fault::OnlyTasks { label });
                }
                let app = self.app_or_new(&app)?;
                let mut settings = app.settings_in_force()?;
                settings.extend(more);
                let kind = ReleaseKind::Image;
                self.release(&app, Wanted { kind, image, label, way, settings, who, port }, writer)
            }
            Request::RollBack { app, to, who } => {
                let app = self.app(&app)?;
                let wanted = app.wanted_again(to, who)?;
                self.release(&app, wanted, writer)
            }
            Request::Settings { app, settings, names, who } => {
                let app = self.app_or_new(&app)?;
                match app.wanted_with(settings, names, who)? {
                    Some(wanted) => self.release(&app, wanted, writer),
                    None => Ok(Answer::Done),
                }
            }
            Request::Scale { app, process, instances } => {
                self.app(&app)?.scale(&process, instances)?;
                Ok(Answer::Done)
            }
            Request::Restart { app } => {
                self.app(&app)?.restart(&self.cancel)?;
                Ok(Answer::Done)
            }
            Request::Status => {
                let apps: Vec<Arc<LiveApp>> = self.apps().values().cloned().collect();
                Ok(Answer::Status { apps: apps.iter().map(|app| app.status()).collect() })
            }
            Request::Health { app, instance } => {
                Ok(Answer::Health { probes: self.app(&app)?.health(&instance)? })
            }
            Request::End { app } => {
                let live = self.app(&app)?;
                live.end()?;
                self.apps().remove(&app);
                Ok(Answer::Done)
            }
            Request::Stop => {
                // The answer comes when nothing runs any more.
                self.stop();
                self.cancel.cancel();
                Ok(Answer::Done)
            }
        }
    }

    fn app(&self, name: &str) -> Result<Arc<LiveApp>, Fault> {
        let apps = self.apps();
        let known = || apps.keys().cloned().collect();
        apps.get(name).cloned().ok_or_else(|| Fault::NoApp { app: name.to_owned(), known: known() })
    }

    fn app_or_new(&self, name: &str) -> Result<Arc<LiveApp>, Fault> {
        let mut apps = self.apps();
        if let Some(app) = apps.get(name) {
            return Ok(Arc::clone(app));
        }
        let app = Arc::new(LiveApp::open(name, &self.yard, &self.host)?);
        apps.insert(name.to_owned(), Arc::clone(&app));
        Ok(app)
    }

    fn release(
        &self,
        app: &LiveApp,
        wanted: Wanted,
        writer: &Arc<Mutex<UnixStream>>,
    ) -> Result<Answer, Fault> {
        let (to, is_heard) = (Arc::clone(writer), AtomicBool::new(true));
        // A client that is gone, or does not read, changes nothing: the release goes on.
        let told = Box::new(move |answer| {
            if is_heard.load(Ordering::Relaxed) && send(&to, &answer).is_err() {
                is_heard.store(false, Ordering::Relaxed);
            }
        });
        let (release, port) = app.release(wanted, &self.cancel, told)?;
        Ok(Answer::Released { release, port })
    }
}

fn send(writer: &Mutex<UnixStream>, answer: &Answer) -> io::Result<()> {
    let mut line = serde_json::to_vec(answer)?;
    line.push(b'\n');
    writer.lock().unwrap_or_else(PoisonError::into_inner).write_all(&line)
}
