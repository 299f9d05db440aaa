<script lang="ts">
  // A source that is added, or how one is reached from now on. The service connects before anything is kept.
  import { untrack } from "svelte";
  import { Button, Input, Label, Select } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  let {
    source,
    done
  }: { source?: Schemas["Config"]; done: (name: string, report: Schemas["Report"]) => void } = $props();
  const was = untrack(() => source); // the form begins with what is in force
  let form = $state({
    name: was?.name ?? "",
    engine: was?.engine ?? "postgres",
    address: was?.address ?? "",
    password: was?.password_env ? "env" : was?.password_file ? "file" : "",
    place: was?.password_env || was?.password_file || "",
    tls: was?.tls ?? "",
    tls_ca: was?.tls_ca ?? "",
    disk: was?.disk ?? "",
    origin: was?.origin ?? "",
    connections: was?.connections ?? 4
  });
  let problem = $state<Problem>();
  let busy = $state(false);
  const engines = [
    { value: "postgres", name: "PostgreSQL" },
    { value: "mariadb", name: "MariaDB or MySQL" },
    { value: "sqlite", name: "SQLite" }
  ];
  const examples: Record<string, string> = {
    postgres: "postgres://keeper@db.example:5432/harbour",
    mariadb: "mariadb://keeper@db.example:3306/harbour",
    sqlite: "/var/lib/harbour/harbour.db"
  };
  const passwords = [
    { value: "", name: "none" },
    { value: "file", name: "in a file of the service's machine" },
    { value: "env", name: "in a variable of the service's environment" }
  ];
  const securities = [
    { value: "", name: "verified, but for loopback" },
    { value: "verify", name: "verified" },
    { value: "require", name: "required, not verified" },
    { value: "off", name: "off" }
  ];
  let server = $derived(form.engine !== "sqlite");

  async function save(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    busy = true;
    const how = {
      address: form.address.trim(),
      password_env: server && form.password === "env" ? form.place : "",
      password_file: server && form.password === "file" ? form.place : "",
      tls: server ? form.tls : "",
      tls_ca: server ? form.tls_ca : "",
      disk: form.disk,
      origin: server ? form.origin : "",
      connections: Number(form.connections)
    };
    try {
      const report = was
        ? await take(api.PATCH("/sources/{source}", { params: { path: { source: was.name } }, body: how }))
        : await take(api.POST("/sources", { body: { name: form.name.trim(), engine: form.engine, ...how } }));
      done(form.name.trim(), report);
    } catch (e) {
      problem = problemOf(e);
    }
    busy = false;
  }
</script>

<form class="grid gap-x-4 gap-y-3 px-4 py-3 md:grid-cols-3" onsubmit={save}>
  <div class="empty:hidden md:col-span-3" aria-live="polite"><Trouble {problem} /></div>
  <div>
    <Label for="source-name">Name</Label>
    <Input
      id="source-name"
      size="sm"
      required
      disabled={!!was}
      placeholder="harbour"
      bind:value={form.name} />
  </div>
  <div>
    <Label for="engine">Engine</Label>
    <Select id="engine" size="sm" placeholder="" disabled={!!was} items={engines} bind:value={form.engine} />
  </div>
  <div>
    <Label for="connections">Connections at the most</Label>
    <Input id="connections" size="sm" type="number" min="3" max="100" bind:value={form.connections} />
  </div>
  <div class="md:col-span-3">
    <Label for="address"
      >{server
        ? "Address: a URL without the password"
        : "The database's file, as the service's machine has it"}</Label>
    <Input id="address" size="sm" required placeholder={examples[form.engine]} bind:value={form.address} />
  </div>
  {#if server}
    <div>
      <Label for="password">Password</Label>
      <Select id="password" size="sm" placeholder="" items={passwords} bind:value={form.password} />
    </div>
    {#if form.password}
      <div class="md:col-span-2">
        <Label for="place">{form.password === "env" ? "Variable that holds it" : "File that holds it"}</Label>
        <Input
          id="place"
          size="sm"
          required
          placeholder={form.password === "env"
            ? "AMBERCELLAR_SECRET_HARBOUR"
            : "/etc/ambercellar/secrets/harbour"}
          bind:value={form.place} />
      </div>
    {/if}
  {/if}
  <details class="text-sm md:col-span-3">
    <summary class="cursor-pointer">More: {server ? "TLS, replicas, " : ""}free space</summary>
    <div class="mt-2 grid gap-x-4 gap-y-3 md:grid-cols-3">
      {#if server}
        <div>
          <Label for="tls">TLS</Label>
          <Select id="tls" size="sm" placeholder="" items={securities} bind:value={form.tls} />
        </div>
        <div>
          <Label for="tls-ca">Certificates that may sign the server's</Label>
          <Input id="tls-ca" size="sm" placeholder="the system's; or a PEM file" bind:value={form.tls_ca} />
        </div>
        <div>
          <Label for="origin">Mark of our deletes, for replicas</Label>
          <Input
            id="origin"
            size="sm"
            placeholder={form.engine === "postgres" ? "a replication origin's name" : "a gtid_domain_id"}
            bind:value={form.origin} />
        </div>
      {/if}
      <div>
        <Label for="disk">Directory whose free space is watched</Label>
        <Input id="disk" size="sm" placeholder="of the service's machine" bind:value={form.disk} />
      </div>
    </div>
  </details>
  <div class="flex items-center gap-3 md:col-span-3">
    <Button type="submit" size="sm" disabled={busy}
      >{busy ? "Connecting …" : was ? "Connect and change" : "Connect and add"}</Button>
    <span class="text-xs text-gray-500 dark:text-gray-400"
      >The service connects and looks at its rights. Nothing is kept if that fails.</span>
  </div>
</form>
