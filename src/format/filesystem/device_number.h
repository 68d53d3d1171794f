#pragma once

#include "container/entry.h"

namespace operculum {

/// Takes a device number of 32 bits apart, as Linux encodes it (include/linux/kdev_t.h, new_decode_dev).
inline void set_device(EntryExtra& extra, std::uint32_t number) {
  extra.device_major = (number & 0xFFF00) >> 8;
  extra.device_minor = (number & 0xFF) | ((number >> 12) & 0xFFF00);
}

/// The way back (new_encode_dev).
inline std::uint32_t device_number(const EntryExtra& extra) {
  return (extra.device_minor & 0xFF) | extra.device_major << 8 | (extra.device_minor & ~0xFFU) << 12;
}

}  // namespace operculum
