// The real server on a free port with a data folder of its own.
import { execFileSync, spawn } from "node:child_process";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";

export const binary = fileURLToPath(new URL("../target/debug/bright-ripple", import.meta.url));

export class Server {
  data = mkdtempSync(join(tmpdir(), "bright-ripple-"));

  async start(...options) {
    const args = ["serve", "--data-dir", this.data, "--port", "0", ...options];
    const stdio = ["ignore", "pipe", "inherit"];
    // A write past the limit then fails as one on a full disk does.
    const limited = "trap '' XFSZ; exec \"$0\" \"$@\"";
    this.child = spawn("sh", ["-c", limited, binary, ...args], { stdio });
    this.address = await new Promise((resolve, reject) => {
      const late = setTimeout(() => reject(new Error("the server did not start within 20 s")), 20_000);
      let text = "";
      this.child.stdout.on("data", (part) => {
        text += part;
        const found = /http:\/\/\S+/.exec(text);
        if (found) {
          clearTimeout(late);
          resolve(found[0]);
        }
      });
      this.child.on("exit", (code) => reject(new Error(`the server ended with code ${code}`)));
    });
    return this;
  }

  /** Makes every write past this place in a file fail; `"unlimited"` ends that. */
  limitFiles(bytes) {
    execFileSync("prlimit", ["--pid", String(this.child.pid), `--fsize=${bytes}:`]);
  }

  /** Ends it at once, as a crash would. */
  async kill() {
    if (this.child.exitCode !== null || this.child.signalCode !== null) return;
    const ended = new Promise((resolve) => this.child.once("exit", resolve));
    this.child.kill("SIGKILL");
    await ended;
  }

  async end() {
    await this.kill();
    rmSync(this.data, { recursive: true, force: true });
  }
}
