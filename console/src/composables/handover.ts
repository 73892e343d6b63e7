import { ref } from 'vue'

/** A file that one page found to be for another. */
export const handedOver = ref<File>()
