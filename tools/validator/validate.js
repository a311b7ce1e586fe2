// Usage: node validate.js FILE — prints the validator's issues as JSON.
const fs = require('fs');
const validator = require('gltf-validator');
validator
  .validateBytes(new Uint8Array(fs.readFileSync(process.argv[2])), { maxIssues: 50 })
  .then((report) => console.log(JSON.stringify(report.issues)))
  .catch((error) => { console.error(error); process.exit(1); });
