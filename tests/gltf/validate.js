// Prints as JSON, for each file, the codes of what the glTF validator finds wrong with it (errors and warnings).
const fs = require("fs");
const path = require("path");
const validator = require("gltf-validator");

async function check(file) {
  const beside = (uri) =>
    new Promise((resolve, reject) => {
      try {
        resolve(new Uint8Array(fs.readFileSync(path.join(path.dirname(file), decodeURIComponent(uri)))));
      } catch (error) {
        reject(error.toString());
      }
    });
  const bytes = new Uint8Array(fs.readFileSync(file));
  const report = await validator.validateBytes(bytes, { uri: path.basename(file), externalResourceFunction: beside });
  return report.issues.messages.filter((one) => one.severity < 2).map((one) => `${one.code} ${one.pointer || ""}`);
}

(async () => {
  const found = {};
  for (const file of process.argv.slice(2)) found[path.basename(file)] = await check(file);
  console.log(JSON.stringify(found));
})();
