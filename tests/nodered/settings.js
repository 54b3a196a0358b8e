// A runtime for tests: on loopback only, everything else from the environment.
module.exports = {
  uiPort: Number(process.env.AMPHORA_TEST_PORT),
  uiHost: "127.0.0.1",
  userDir: process.env.AMPHORA_TEST_FOLDER,
  credentialSecret: "made up for tests",
  flowFile: "flows.json",
  nodesExcludes: (process.env.AMPHORA_TEST_EXCLUDED || "").split(",").filter(Boolean),
  logging: { console: { level: "warn", metrics: false, audit: false } },
  telemetry: { enabled: false, updateNotification: false },
  ...(process.env.AMPHORA_TEST_TOKEN
    ? {
        adminAuth: {
          type: "credentials",
          users: [],
          tokens: async (token) =>
            token === process.env.AMPHORA_TEST_TOKEN ? { username: "mover", permissions: "*" } : null,
        },
      }
    : {}),
};
