<script lang="ts">
  // Signs in a command line that shows a code.
  import { Button, Input, Label } from "../../lib/ui";
  import { api, take, type Problem } from "../../api/client";
  import { problemOf } from "../../lib/loader.svelte";
  import Trouble from "../../lib/Trouble.svelte";

  let code = $state("");
  let done = $state(false);
  let problem = $state<Problem>();

  async function confirm(e: SubmitEvent) {
    e.preventDefault();
    problem = undefined;
    done = false;
    try {
      await take(api.POST("/session/pairing/confirmation", { body: { code } }));
      done = true;
      code = "";
    } catch (e) {
      problem = problemOf(e);
    }
  }
</script>

<form class="space-y-3 p-4 text-sm" onsubmit={confirm}>
  <Trouble {problem} />
  <p>
    <code>ambercellar login -console</code> shows a code. Confirm it only if you have just started that yourself:
    whoever shows it can do all that you may.
  </p>
  <Label
    >Code<Input
      class="mt-1 w-40 font-mono uppercase"
      size="sm"
      placeholder="ABCD-EFGH"
      bind:value={code}
      required /></Label>
  <Button size="sm" type="submit">Sign it in</Button>
  {#if done}<p role="status">The command line is signed in as you.</p>{/if}
</form>
