<script setup lang="ts">
/** Name and remark of a record; tag, role and unit of its channels are put right. The samples never change. */
import { ref, watch } from "vue";
import {
  ApiError,
  answered,
  api,
  fieldOf,
  ifMatch,
  messageOf,
  type RecordInfo,
  type Schemas,
} from "../api/client";
import ConflictNote from "../components/ConflictNote.vue";
import DialogFrame from "../components/DialogFrame.vue";
import ProblemNote from "../components/ProblemNote.vue";
import TextField from "../components/TextField.vue";

const props = defineProps<{ record: RecordInfo | null }>();
const emit = defineEmits<{ close: []; changed: [] }>();

interface Draft {
  name: string;
  remark: string;
  channels: Schemas["ChannelInfo"][];
  revision: number;
}
const draft = ref<Draft | null>(null);
const problem = ref("");
const field = ref("");
const theirs = ref<RecordInfo | null>(null);
const busy = ref(false);
const words = ref("");

function begin(record: RecordInfo) {
  draft.value = {
    name: record.name,
    remark: record.remark,
    channels: record.channels.map((channel) => ({ ...channel })),
    revision: record.revision,
  };
  [problem.value, field.value, theirs.value] = ["", "", null];
}
watch(
  () => props.record?.id,
  () => {
    words.value = "";
    if (props.record) begin(props.record);
  },
  { immediate: true },
);

const ROLES: Schemas["Role"][] = ["pv", "op", "sp", "dv", "other"];
const roleName = (role: Schemas["Role"]) => (role === "other" ? "other" : role.toUpperCase());
const at = (name: string) => (field.value === name ? problem.value : "");
const isShown = (tag: string) => tag.toLowerCase().includes(words.value.trim().toLowerCase());

async function keep(force: boolean) {
  const record = props.record;
  const next = draft.value;
  if (!record || !next || busy.value) return;
  busy.value = true;
  [problem.value, field.value, theirs.value] = ["", "", null];
  try {
    const { name, remark, channels, revision } = next;
    const params = { path: { id: record.id }, header: ifMatch(revision, force) };
    await answered(api.PUT("/api/v1/records/{id}", { params, body: { name, remark, channels } }));
    emit("changed");
    emit("close");
  } catch (error) {
    problem.value = messageOf(error);
    field.value = fieldOf(error);
    if (error instanceof ApiError) theirs.value = error.current as unknown as RecordInfo | null;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <DialogFrame
    :open="record !== null"
    title="Record"
    :note="record?.origin"
    width="680px"
    @close="emit('close')"
  >
    <form v-if="draft" class="mt-3 grid gap-3" @submit.prevent="keep(false)">
      <TextField v-model="draft.name" label="Name" :problem="at('name')" />
      <TextField v-model="draft.remark" label="Remark" :lines="3" :most="10000" :problem="at('remark')" />
      <div>
        <div class="mb-1 flex items-center gap-3">
          <span class="font-semibold">Channels</span>
          <input
            v-if="draft.channels.length > 8"
            v-model="words"
            class="entry w-[180px]"
            type="search"
            placeholder="search"
            aria-label="Search the channels"
          />
        </div>
        <table class="w-full text-[13px]" aria-label="Channels">
          <thead class="text-left text-[12px] text-soft">
            <tr>
              <th class="font-normal">tag</th>
              <th class="font-normal">use as</th>
              <th class="font-normal">unit</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="(channel, k) in draft.channels" :key="k">
              <tr v-if="isShown(channel.tag)" class="border-t border-rule">
                <td class="py-[3px] pr-2">
                  <input
                    v-model="channel.tag"
                    class="entry w-full"
                    maxlength="80"
                    :aria-label="`Tag of channel ${k + 1}`"
                  />
                  <p v-if="at(`channels.${k}.tag`)" class="text-[12.5px] text-limit" role="alert">
                    {{ problem }}
                  </p>
                </td>
                <td class="pr-2">
                  <select v-model="channel.role" class="entry" :aria-label="`Role of ${channel.tag}`">
                    <option v-for="role in ROLES" :key="role" :value="role">{{ roleName(role) }}</option>
                  </select>
                  <p v-if="at(`channels.${k}.role`)" class="text-[12.5px] text-limit" role="alert">
                    {{ problem }}
                  </p>
                </td>
                <td>
                  <input
                    v-model="channel.unit"
                    class="entry w-[90px]"
                    maxlength="24"
                    :aria-label="`Unit of ${channel.tag}`"
                  />
                  <p v-if="at(`channels.${k}.unit`)" class="text-[12.5px] text-limit" role="alert">
                    {{ problem }}
                  </p>
                </td>
              </tr>
            </template>
          </tbody>
        </table>
        <p class="mt-1 text-[12.5px] text-soft">
          The values stay as they are; models fitted before say that the record has changed since.
        </p>
      </div>
      <ConflictNote
        v-if="theirs"
        :text="`${problem} It is called “${theirs.name}” there.`"
        @theirs="theirs && begin(theirs)"
        @mine="keep(true)"
      />
      <ProblemNote v-else-if="!/^(name|remark|channels\.\d+\.\w+)$/.test(field)" :text="problem" />
      <div class="flex gap-2">
        <button type="submit" class="button button-main" :disabled="busy">Keep it</button>
        <button type="button" class="button" @click="emit('close')">Cancel</button>
      </div>
    </form>
  </DialogFrame>
</template>
