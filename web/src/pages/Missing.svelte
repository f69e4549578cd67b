<script lang="ts">
  import Notice from "../lib/Notice.svelte";
  import { navigate } from "../lib/routes";
</script>

<Notice title="There is no page at this address" text="It may have been cut off when it was copied." action="To the runs" onaction={() => navigate("/")} />
