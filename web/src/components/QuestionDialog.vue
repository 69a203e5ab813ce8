<script setup lang="ts">
import { ref, watch } from 'vue'
import { asked } from '../ask'

const text = ref('')
watch(asked, () => (text.value = ''))

function go() {
  if (!asked.value?.label || text.value.trim()) asked.value?.answer(text.value.trim())
}
</script>

<template>
  <v-dialog v-if="asked" :model-value="true" max-width="520" @update:model-value="asked?.answer(undefined)">
    <v-card id="question" role="alertdialog" aria-labelledby="question-words">
      <v-card-text>
        <p id="question-words">{{ asked.words }}</p>
        <form v-if="asked.label" class="mt-4" @submit.prevent="go">
          <v-text-field id="question-text" v-model="text" :label="asked.label" autofocus />
        </form>
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn variant="text" @click="asked.answer(undefined)">Back</v-btn>
        <v-btn id="go-on" color="bad" variant="flat" :disabled="!!asked.label && !text.trim()" @click="go">{{ asked.act }}</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
